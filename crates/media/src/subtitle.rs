//! Subtitle text as players read it (CDS-61).

use crate::playlist::decode;

/// Bytes of a subtitle file at most.
pub const BYTES: u64 = 8 << 20;

/// A subtitle file's text as UTF-8: SubRip with CRLF, WebVTT with its first line.
pub fn utf8(bytes: &[u8], webvtt: bool) -> String {
    let text = decode(bytes).replace('\u{feff}', "").replace("\r\n", "\n").replace('\r', "\n");
    if !webvtt {
        return text.replace('\n', "\r\n");
    }
    if text.trim_start().starts_with("WEBVTT") { text } else { format!("WEBVTT\n\n{text}") }
}

/// SubRip as WebVTT, for browsers.
pub fn webvtt(bytes: &[u8]) -> String {
    let text = utf8(bytes, false).replace("\r\n", "\n");
    let mut out = String::from("WEBVTT\n\n");
    for line in text.lines() {
        match line.split_once("-->") {
            // Only the times of a cue have a comma for a point.
            Some((from, to)) => {
                out.push_str(&format!("{}-->{}", from.replace(',', "."), to.replace(',', ".")));
            }
            None => out.push_str(line),
        }
        out.push('\n');
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_is_utf8_and_cues_keep_their_order() {
        let srt = b"1\n00:00:01,000 --> 00:00:02,500\nCaf\xe9, see\n\n2\n00:00:03,000 --> 00:00:04,000\nB";
        let out = utf8(srt, false);
        assert!(out.contains("Caf\u{e9}, see\r\n") && out.contains("00:00:01,000"));
        let vtt = webvtt(srt);
        assert!(vtt.starts_with("WEBVTT\n\n1\n00:00:01.000 --> 00:00:02.500\nCaf\u{e9}, see\n"));
        assert!(vtt.ends_with("\nB\n"));
        assert!(utf8(b"\xef\xbb\xbfWEBVTT\n\n", true).starts_with("WEBVTT"));
    }
}
