//! Subtitle text as players read it (CDS-61).

use crate::playlist::decode;

/// Bytes of a subtitle file at most.
pub const BYTES: u64 = 8 << 20;

/// Characters of a time at least: `00:00.000`.
const TIME: usize = 9;

/// A subtitle file's text, each line ended by a line feed, without marks of byte order.
fn normalised(bytes: &[u8]) -> String {
    let text = decode(bytes);
    if !text.contains(['\r', '\u{feff}']) {
        return text;
    }
    let mut out = String::with_capacity(text.len());
    let mut characters = text.chars().filter(|c| *c != '\u{feff}').peekable();
    while let Some(character) = characters.next() {
        if character == '\r' {
            characters.next_if_eq(&'\n');
        }
        out.push(if character == '\r' { '\n' } else { character });
    }
    out
}

/// A subtitle file's text as UTF-8: SubRip with CRLF, WebVTT with its first line.
fn utf8(bytes: &[u8], webvtt: bool) -> String {
    let text = normalised(bytes);
    if !webvtt {
        return text.replace('\n', "\r\n");
    }
    if text.trim_start().starts_with("WEBVTT") { text } else { format!("WEBVTT\n\n{text}") }
}

/// A subtitle file's text in the form that is asked for, whichever it has. At no time does this
/// take more than eight times the file's length and 1 MiB.
pub fn as_form(bytes: &[u8], is_webvtt: bool, webvtt_wanted: bool) -> String {
    match (is_webvtt, webvtt_wanted) {
        (false, true) => webvtt(bytes),
        (true, false) => subrip(bytes),
        (same, _) => utf8(bytes, same),
    }
}

/// WebVTT as SubRip: cues numbered in their order, without what only WebVTT knows.
fn subrip(bytes: &[u8]) -> String {
    let text = utf8(bytes, true);
    let mut out = String::with_capacity(text.len());
    let mut number = 0;
    for block in text.split("\n\n").map(|block| block.trim_matches('\n')) {
        // A cue may have a name of its own before its times; notes and styles have none.
        let Some(at) = block.lines().take(2).position(|line| line.contains("-->")) else {
            continue;
        };
        let mut lines = block.lines().skip(at);
        let Some((from, to)) = lines.next().and_then(|times| times.split_once("-->")) else {
            continue;
        };
        // Where on the picture it stands comes behind the times.
        let to = to.split_whitespace().next().unwrap_or_default();
        if from.trim().len() < TIME || to.len() < TIME {
            continue;
        }
        number += 1;
        out.push_str(&format!("{number}\r\n{} --> {}\r\n", time(from.trim()), time(to)));
        for line in lines {
            out.push_str(line);
            out.push_str("\r\n");
        }
        out.push_str("\r\n");
    }
    out
}

/// A time of WebVTT, of which the hours may be left out, as SubRip has it.
fn time(text: &str) -> String {
    let whole = if text.matches(':').count() == 1 { format!("00:{text}") } else { text.to_owned() };
    whole.replace('.', ",")
}

/// SubRip as WebVTT, for browsers.
fn webvtt(bytes: &[u8]) -> String {
    let text = normalised(bytes);
    // Each line is as long as before; the last may have had no end.
    let mut out = String::with_capacity(text.len() + "WEBVTT\n\n\n".len());
    out.push_str("WEBVTT\n\n");
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

    #[test]
    fn each_form_is_made_of_the_other() {
        let vtt = "WEBVTT Harbour\n\nNOTE by hand\n\nSTYLE\n::cue {}\n\nfirst\n\
                   00:01.000 --> 00:02.500 line:0 align:start\nCaf\u{e9}, see\n-- Yes.\n\n\
                   01:00:03.000 --> 01:00:04.000\nB\n";
        let srt = as_form(vtt.as_bytes(), true, false);
        let expected = "1\r\n00:00:01,000 --> 00:00:02,500\r\nCaf\u{e9}, see\r\n-- Yes.\r\n\r\n\
                        2\r\n01:00:03,000 --> 01:00:04,000\r\nB\r\n\r\n";
        assert_eq!(srt, expected);
        let back = as_form(srt.as_bytes(), false, true);
        assert!(back.starts_with("WEBVTT\n\n1\n00:00:01.000 --> 00:00:02.500\nCaf\u{e9}, see"));
        assert_eq!(as_form(back.as_bytes(), true, false), expected, "cues keep their order");
        assert_eq!(as_form(srt.as_bytes(), false, false), srt);
    }
}
