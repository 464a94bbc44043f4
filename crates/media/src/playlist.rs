//! Playlist files (requirements 5.9): from bytes to entries, without touching what they name.

use std::path::{Component, Path, PathBuf};
use std::rc::Rc;

use mostra_core::left_out::Reason;
use mostra_core::text::{TITLE, tamed};
use quick_xml::events::Event;

/// Bytes of a playlist, and entries in it (CDS-68).
pub const BYTES: usize = 4 << 20;
const ENTRIES: usize = 20_000;
/// However short a list is, it may have so many entries; a longer one has another for each so many
/// of its bytes. What is kept of an entry may be longer than its line.
const SPARE: usize = 2000;
const BYTES_PER_ENTRY: usize = 24;
/// Bytes of a path or an address.
const ADDRESS: usize = 8 << 10;

/// How many entries a list of this many bytes may have.
fn most_entries(bytes: usize) -> usize {
    ENTRIES.min(bytes / BYTES_PER_ENTRY + SPARE)
}

/// One entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlaylistEntry {
    /// What it names: a path or an address.
    pub target: EntryTarget,
    /// The title that the list gives it.
    pub title: Option<String>,
}

/// What an entry names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EntryTarget {
    /// A file; relative to the list unless it begins with `/`.
    Path(String),
    /// A stream at an `http` address.
    Stream(String),
}

fn damaged(what: &'static str) -> Reason {
    Reason::PlaylistDamaged(what.into())
}

/// Reads a playlist by the extension of its name: `m3u`, `m3u8`, `pls` or `xspf`. At no time does
/// it take more than eight times the list's length and 1 MiB; entries beyond what that allows are
/// left out.
///
/// # Errors
/// The [`Reason`] for which it cannot be read as one.
pub fn read(bytes: &[u8], extension: &str) -> Result<Vec<PlaylistEntry>, Reason> {
    if bytes.len() > BYTES {
        return Err(Reason::PlaylistTooLarge);
    }
    let most = most_entries(bytes.len());
    let mut entries = match extension {
        "xspf" => xspf(bytes, most)?,
        "pls" => pls(&decode(bytes), most),
        _ => m3u(&decode(bytes), most)?,
    };
    for entry in &mut entries {
        entry.title = entry.title.take().map(|title| tamed(title, TITLE));
    }
    Ok(entries)
}

/// UTF-8 where it is that, with or without a byte-order mark; else UTF-16 by its mark, else
/// the Western 8-bit charset (CDS-63).
pub fn decode(bytes: &[u8]) -> String {
    if let Some((encoding, _)) = encoding_rs::Encoding::for_bom(bytes) {
        return encoding.decode(bytes).0.into_owned();
    }
    match std::str::from_utf8(bytes) {
        Ok(text) => text.to_owned(),
        Err(_) => encoding_rs::WINDOWS_1252.decode(bytes).0.into_owned(),
    }
}

fn m3u(text: &str, most: usize) -> Result<Vec<PlaylistEntry>, Reason> {
    let mut entries = Vec::new();
    let mut title = None;
    for line in text.split(['\n', '\r']).map(str::trim).filter(|l| !l.is_empty()) {
        if line.starts_with("#EXT-X-") {
            return Err(Reason::StreamingManifest);
        }
        if let Some(info) = line.strip_prefix("#EXTINF:") {
            let name = info.split_once(',').map(|(_, name)| name.trim());
            title = name.filter(|n| !n.is_empty()).map(str::to_owned);
        } else if !line.starts_with('#') && entries.len() < most {
            entries
                .extend(target(line).map(|target| PlaylistEntry { target, title: title.take() }));
        }
    }
    Ok(entries)
}

fn pls(text: &str, most: usize) -> Vec<PlaylistEntry> {
    let mut found: std::collections::BTreeMap<u32, (Option<String>, Option<String>)> =
        std::collections::BTreeMap::new();
    let mut inside = false;
    for line in text.split(['\n', '\r']).map(str::trim) {
        if line.starts_with('[') {
            inside = line.eq_ignore_ascii_case("[playlist]");
            continue;
        }
        let Some((key, value)) = line.split_once('=').filter(|_| inside) else { continue };
        let (key, value) = (key.trim().to_lowercase(), value.trim());
        let numbered = |word: &str| key.strip_prefix(word)?.parse::<u32>().ok();
        let room = |number: &u32| found.len() < most || found.contains_key(number);
        if let Some(number) = numbered("file").filter(room) {
            found.entry(number).or_default().0 = Some(value.to_owned());
        } else if let Some(number) = numbered("title").filter(room) {
            found.entry(number).or_default().1 = Some(value.to_owned());
        }
    }
    let entries = found.into_values().filter_map(|(file, title)| {
        let title = title.filter(|t| !t.is_empty());
        Some(PlaylistEntry { target: target(&file?)?, title })
    });
    entries.collect()
}

fn xspf(bytes: &[u8], most: usize) -> Result<Vec<PlaylistEntry>, Reason> {
    let text = decode(bytes);
    let mut reader = quick_xml::Reader::from_str(&text);
    let mut entries = Vec::new();
    let mut open: Vec<Vec<u8>> = Vec::new();
    // What `xml:base` says at each level, with what is around it.
    let mut bases: Vec<Option<Rc<str>>> = Vec::new();
    let (mut location, mut title) = (None::<String>, String::new());
    let mut value = String::new();
    loop {
        match reader.read_event() {
            Err(_) => return Err(damaged("it is not XML")),
            Ok(Event::DocType(_)) => return Err(damaged("it declares entities")),
            Ok(Event::Eof) => break,
            Ok(Event::Start(tag)) => {
                value.clear();
                let base = tag.attributes().flatten().find(|a| a.key.as_ref() == b"xml:base");
                let base = base.and_then(|a| a.unescape_value().ok());
                let around = bases.last().cloned().flatten();
                let base = match (base, around) {
                    (Some(base), Some(around)) => Some(against(&around, &base).into()),
                    (Some(base), None) => Some(Rc::from(base)),
                    (None, around) => around,
                };
                if base.as_ref().is_some_and(|base| base.len() > ADDRESS) {
                    return Err(damaged("an address in it is too long"));
                }
                bases.push(base);
                open.push(tag.local_name().as_ref().to_vec());
                if open.len() > 32 {
                    return Err(damaged("nested too deep"));
                }
            }
            Ok(Event::Text(piece)) => value.push_str(&piece.decode().unwrap_or_default()),
            Ok(Event::GeneralRef(name)) => {
                let name = name.decode().unwrap_or_default();
                match quick_xml::escape::unescape(&format!("&{name};")) {
                    Ok(letter) => value.push_str(&letter),
                    Err(_) => return Err(damaged("an unknown entity")),
                }
            }
            Ok(Event::End(_)) => {
                let name = open.pop().unwrap_or_default();
                let base = bases.pop().flatten();
                let in_track = open.last().is_some_and(|around| around == b"track");
                match name.as_slice() {
                    // The first that is given counts.
                    b"location" if in_track && location.is_none() => {
                        let named = value.trim();
                        location = Some(base.map_or(named.to_owned(), |b| against(&b, named)));
                    }
                    b"title" if in_track => value.trim().clone_into(&mut title),
                    b"track" => {
                        let named = Some(std::mem::take(&mut title)).filter(|t| !t.is_empty());
                        let target = location.take().and_then(|l| address(&l));
                        if entries.len() < most {
                            let entry = target.map(|target| PlaylistEntry { target, title: named });
                            entries.extend(entry);
                        }
                    }
                    _ => {}
                }
                value.clear();
            }
            Ok(_) => {}
        }
    }
    Ok(entries)
}

/// An entry of a list whose entries are paths, or addresses with their scheme.
fn target(text: &str) -> Option<EntryTarget> {
    if text.len() > ADDRESS {
        return None;
    }
    let lower = text.to_lowercase();
    if lower.starts_with("file:") || lower.starts_with("http://") || lower.starts_with("https://") {
        return address(text);
    }
    // Another scheme; but `C:\…` is a path of a system that we are not.
    if lower.contains("://") {
        return None;
    }
    Some(EntryTarget::Path(text.replace('\\', "/")))
}

/// An address; without a scheme a path, percent-encoded as in an address.
fn address(text: &str) -> Option<EntryTarget> {
    if text.len() > ADDRESS {
        return None;
    }
    let lower = text.to_lowercase();
    if lower.starts_with("http://") || lower.starts_with("https://") {
        return Some(EntryTarget::Stream(text.to_owned()));
    }
    let path = match lower.strip_prefix("file:") {
        None if lower.contains("://") => return None,
        None => text,
        Some(_) => {
            let rest = text.get(5..)?;
            match rest.strip_prefix("//") {
                // `file://host/path`: only this host is meant.
                Some(rest) => rest.get(rest.find('/')?..)?,
                None => rest,
            }
        }
    };
    Some(EntryTarget::Path(percent_decoded(path)?))
}

/// Decodes an address; what is no text, or ends it early, names nothing.
fn percent_decoded(text: &str) -> Option<String> {
    let decoded = percent_encoding::percent_decode_str(text).decode_utf8().ok()?;
    Some(decoded.into_owned()).filter(|t| !t.contains('\0'))
}

/// An address against the one it is relative to (RFC 3986 §5.2, as far as lists need it); `..`
/// is worked out later, where the whole path is known.
fn against(base: &str, address: &str) -> String {
    let scheme_ends = base.find("://").map_or(0, |at| at + 3);
    let path_begins = base[scheme_ends..].find('/').map_or(base.len(), |at| at + scheme_ends);
    if address.contains("://") || address.to_lowercase().starts_with("file:") {
        address.to_owned()
    } else if address.starts_with('/') {
        format!("{}{address}", &base[..path_begins])
    } else {
        let directory =
            base[path_begins..].rfind('/').map_or(path_begins, |at| at + path_begins + 1);
        let slash = if directory == base.len() && path_begins == base.len() && scheme_ends > 0 {
            "/"
        } else {
            ""
        };
        format!("{}{slash}{address}", &base[..directory])
    }
}

/// The path that an entry means, for a list at `list`, without looking at the disk: `..` and
/// `.` are worked out, so that what lies outside a root can be told (CDS-67).
pub fn resolve(list: &Path, entry: &str) -> Option<PathBuf> {
    let joined = list.parent()?.join(entry);
    let mut path = PathBuf::new();
    for component in joined.components() {
        match component {
            Component::ParentDir => {
                path.pop();
            }
            Component::CurDir => {}
            other => path.push(other),
        }
    }
    Some(path)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn paths(bytes: &[u8], extension: &str) -> Vec<String> {
        let entries = read(bytes, extension).unwrap();
        entries
            .into_iter()
            .map(|e| match e.target {
                EntryTarget::Path(path) => path,
                EntryTarget::Stream(address) => address,
            })
            .collect()
    }

    #[test]
    fn all_four_kinds_are_read() {
        let m3u = b"\xef\xbb\xbf#EXTM3U\r\n#EXTINF:-1,Low Water\r\n..\\Tides\\low.mp3\r\rfile:///srv/a%20b.mp3\nhttp://127.0.0.1/live\n";
        assert_eq!(
            paths(m3u, "m3u"),
            ["../Tides/low.mp3", "/srv/a b.mp3", "http://127.0.0.1/live"]
        );
        assert_eq!(read(m3u, "m3u8").unwrap()[0].title.as_deref(), Some("Low Water"));
        assert_eq!(paths(b"caf\xe9.mp3", "m3u"), ["caf\u{e9}.mp3"], "an 8-bit charset");
        let pls =
            b"[playlist]\nfile2=b.mp3\nFile1=a.mp3\nTitle1=A\nNumberOfEntries=9\n[other]\nFile3=c";
        assert_eq!(paths(pls, "pls"), ["a.mp3", "b.mp3"]);
        let xspf = br#"<playlist xmlns="http://xspf.org/ns/0/"><title>Evening</title><trackList>
            <track><location>Tides/low%20water.mp3</location><title>Salt &amp; Rope</title></track>
            <track><location>file:///srv/x.mp3</location><location>y.mp3</location></track>
            </trackList></playlist>"#;
        assert_eq!(paths(xspf, "xspf"), ["Tides/low water.mp3", "/srv/x.mp3"]);
        assert_eq!(read(xspf, "xspf").unwrap()[0].title.as_deref(), Some("Salt & Rope"));
        let based = br#"<playlist xmlns="http://xspf.org/ns/0/" xml:base="file:///srv/lists/e.xspf"><trackList>
            <track><location>a.mp3</location></track><track xml:base="tides/"><location>b%20c.mp3</location></track>
            <track><location>/d.mp3</location></track>
            <track xml:base="http://127.0.0.1"><location>live</location></track></trackList></playlist>"#;
        assert_eq!(
            paths(based, "xspf"),
            ["/srv/lists/a.mp3", "/srv/lists/tides/b c.mp3", "/d.mp3", "http://127.0.0.1/live"]
        );
    }

    #[test]
    fn what_is_no_playlist_is_told() {
        let manifest = b"#EXTM3U\n#EXT-X-TARGETDURATION:9\nx.ts";
        assert_eq!(read(manifest, "m3u8"), Err(Reason::StreamingManifest));
        assert_eq!(read(&vec![b'a'; BYTES + 1], "m3u"), Err(Reason::PlaylistTooLarge));
        let entities = b"<!DOCTYPE x [<!ENTITY a \"b\">]><playlist>&a;</playlist>";
        assert!(matches!(read(entities, "xspf"), Err(Reason::PlaylistDamaged(_))));
        let line = b"music/Harbour at dawn.mp3\n";
        assert_eq!(read(&line.repeat(ENTRIES + 5), "m3u").unwrap().len(), ENTRIES);
        // Of a list of nothing but short lines fewer are read.
        let few = read(&b"a\n".repeat(ENTRIES), "m3u").unwrap().len();
        assert!((SPARE..ENTRIES).contains(&few), "{few}");
    }

    #[test]
    fn dots_are_worked_out() {
        let list = Path::new("/srv/music/lists/e.m3u");
        assert_eq!(resolve(list, "../tides/./a.mp3"), Some("/srv/music/tides/a.mp3".into()));
        assert_eq!(resolve(list, "/../../etc/passwd"), Some("/etc/passwd".into()));
    }
}
