//! What playlists and subtitles take of memory while they are read: at most eight times their
//! length and 1 MiB. One test alone, as the allocator counts what all threads take.

use mostra_media::{playlist, subtitle};
use peak_alloc::PeakAlloc;

#[global_allocator]
static ALLOCATOR: PeakAlloc = PeakAlloc;

fn check(name: &str, bytes: &[u8], parse: impl FnOnce(&[u8])) {
    let before = ALLOCATOR.current_usage();
    ALLOCATOR.reset_peak_usage();
    parse(bytes);
    let taken = ALLOCATOR.peak_usage().saturating_sub(before);
    let allowed = 8 * bytes.len() + (1 << 20);
    let begin = String::from_utf8_lossy(&bytes[..bytes.len().min(40)]);
    assert!(taken <= allowed, "{name}: {taken} of {allowed} bytes for {begin}");
}

#[test]
fn no_list_and_no_subtitle_takes_more_than_eight_times_its_length() {
    let filled = |bytes: usize, before: &str, inside: &str, after: &str| {
        format!("{before}{}{after}", inside.repeat(bytes / inside.len())).into_bytes()
    };
    let numbered: String = (0..400_000).map(|n| format!("file{n}=\n")).collect();
    let numbered = format!("[playlist]\n{numbered}").into_bytes();
    for bytes in [40 << 10, 400 << 10, playlist::BYTES - 200_000] {
        let base = "/a".repeat(bytes / 4);
        let nested: String = (0..30).map(|n| format!("<b{n}>")).collect();
        let lists = [
            ("m3u", filled(bytes, "", "a\n", "")),
            ("m3u", filled(bytes, "", "#EXTINF:1,a\na\n", "")),
            ("m3u", vec![0x80; bytes]),
            ("pls", numbered[..bytes.min(numbered.len())].to_vec()),
            ("pls", filled(bytes, "[playlist]\n", "file1=a\n", "")),
            ("xspf", filled(bytes, &format!("<a xml:base='{base}'>{nested}"), "<c/>", "")),
            ("xspf", filled(bytes, "<a>", "<track><location>a</location></track>", "</a>")),
            (
                "xspf",
                filled(
                    bytes,
                    "<a xml:base='/b/c/'>",
                    "<track><location>a</location></track>",
                    "</a>",
                ),
            ),
            ("xspf", filled(bytes, "<a", " b='c'", "/>")),
        ];
        for (form, bytes) in lists {
            check(form, &bytes, |bytes| drop(playlist::read(bytes, form)));
        }
        let subtitles = [
            filled(bytes, "", "-->\n\n", ""),
            filled(bytes, "", "00:00.000-->00:00.000\n\n", ""),
            filled(bytes, "", "\r", ""),
            filled(bytes, "", "\n", ""),
            vec![0x80; bytes],
        ];
        for bytes in subtitles {
            for (is_webvtt, wanted) in [(false, false), (false, true), (true, false), (true, true)]
            {
                check("subtitle", &bytes, |bytes| {
                    drop(subtitle::as_form(bytes, is_webvtt, wanted));
                });
            }
        }
    }
}
