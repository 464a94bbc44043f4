//! Reading protocolInfo that others wrote (requirements 10.1, 10.3); [`dlna`](crate::model::dlna)
//! writes ours.

use crate::model::dlna::Seek;

/// Most entries of a list that are read (PROF-19).
const ENTRIES: usize = 2000;
/// Most bytes of a list that are read (PROF-19).
const BYTES: usize = 256 << 10;

/// A protocolInfo as it was read. What is absent or cannot be read is `None`, or `*` as a text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadInfo {
    /// The protocol, usually `http-get`.
    pub protocol: String,
    /// The network, usually `*`.
    pub network: String,
    /// The MIME type with its parameters, or `*`.
    pub mime: String,
    /// `DLNA.ORG_PN`.
    pub profile: Option<String>,
    /// How a part of it can be asked for, by `DLNA.ORG_OP` (PROF-4).
    pub seek: Option<Seek>,
    /// `DLNA.ORG_PS`, the speeds.
    pub speeds: Vec<String>,
    /// Whether this is a converted form, by `DLNA.ORG_CI` (PROF-5).
    pub converted: bool,
    /// The primary flags; `None` also where their bit 20 says that they mean nothing (PROF-7).
    pub flags: Option<u32>,
}

/// Of the primary flags, the one that says that the others mean something.
const FLAGS_MEAN: u32 = 1 << 20;

impl ReadInfo {
    /// Reads one protocolInfo, which is cut at its first three colons only (PROF-1). Fields that
    /// are missing count as `*`; `None` for an empty text.
    pub fn read(text: &str) -> Option<ReadInfo> {
        let text = text.trim();
        if text.is_empty() {
            return None;
        }
        let mut fields = text.splitn(4, ':').map(str::trim);
        let mut field = || match fields.next() {
            None | Some("") => "*".to_owned(),
            Some(text) => text.to_owned(),
        };
        let (protocol, network, mime, rest) = (field(), field(), field(), field());
        let mut info = ReadInfo {
            protocol,
            network,
            mime,
            profile: None,
            seek: None,
            speeds: Vec::new(),
            converted: false,
            flags: None,
        };
        for (name, value) in rest.split(';').filter_map(|p| p.split_once('=')) {
            let value = value.trim();
            match name.trim().to_ascii_uppercase().as_str() {
                "DLNA.ORG_PN" if !value.is_empty() => info.profile = Some(value.to_owned()),
                "DLNA.ORG_OP" => info.seek = seek(value),
                "DLNA.ORG_PS" => info.speeds = value.split(',').map(str::to_owned).collect(),
                "DLNA.ORG_CI" => info.converted = value == "1",
                // Eight digits are the primary ones, whatever follows (PROF-6).
                "DLNA.ORG_FLAGS" => {
                    let digits = value.get(..8).filter(|d| !d.starts_with('+'));
                    let flags = digits.and_then(|d| u32::from_str_radix(d, 16).ok());
                    info.flags = flags.filter(|flags| flags & FLAGS_MEAN != 0);
                }
                _ => {}
            }
        }
        Some(info)
    }

    /// Whether its MIME type is this one, in any case and whatever the parameters of either.
    pub fn is_mime(&self, mime: &str) -> bool {
        let bare = |mime: &str| mime.split(';').next().unwrap_or_default().trim().to_owned();
        bare(&self.mime).eq_ignore_ascii_case(&bare(mime))
    }
}

fn seek(digits: &str) -> Option<Seek> {
    let bit = |byte: u8| matches!(byte, b'0' | b'1').then_some(byte == b'1');
    let [time, bytes] = digits.as_bytes() else { return None };
    Some(Seek { time: bit(*time)?, bytes: bit(*bytes)? })
}

/// Reads a list as GetProtocolInfo gives it: entries between commas that no backslash precedes,
/// empty ones dropped (CM-2, PROF-19).
pub fn read_list(text: &str) -> Vec<ReadInfo> {
    let mut entries = Vec::new();
    let mut entry = String::new();
    let mut chars = text.char_indices().take_while(|(at, _)| *at < BYTES).map(|(_, c)| c);
    loop {
        match chars.next() {
            Some('\\') => entry.extend(chars.next()),
            Some(c) if c != ',' => entry.push(c),
            end => {
                entries.extend(ReadInfo::read(&entry));
                entry.clear();
                if end.is_none() || entries.len() >= ENTRIES {
                    return entries;
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::dlna::{FLAGS_FILE, ProtocolInfo};
    use crate::server::connection_manager::source_list;
    use proptest::prelude::*;

    #[test]
    fn a_list_is_cut_where_it_should_be() {
        // The example of requirements 10.3.
        let list = read_list(
            "http-get:*:video/mp4:*,http-get:*:video/mpeg:DLNA.ORG_PN=AVC_TS_MP_HD_AC3_ISO,\
             http-get:*:audio/L16;rate=44100;channels=2:DLNA.ORG_PN=LPCM,\
             http-get:*:audio/mpeg:DLNA.ORG_PN=MP3;DLNA.ORG_PS=1\\,2",
        );
        let mimes: Vec<&str> = list.iter().map(|i| i.mime.as_str()).collect();
        let pcm = "audio/L16;rate=44100;channels=2";
        assert_eq!(mimes, ["video/mp4", "video/mpeg", pcm, "audio/mpeg"]);
        let profiles: Vec<_> = list.iter().map(|i| i.profile.as_deref()).collect();
        assert_eq!(profiles, [None, Some("AVC_TS_MP_HD_AC3_ISO"), Some("LPCM"), Some("MP3")]);
        assert_eq!(list[3].speeds, ["1", "2"]);
        assert!(list[2].is_mime("Audio/l16"));
    }

    #[test]
    fn odd_forms_are_read_and_bounded() {
        let list =
            read_list(", ,http-get:*:audio/mpeg,http-get,x:y:z:DLNA.ORG_OP=1:2;dlna.org_pn=A");
        assert_eq!(list.len(), 3);
        assert_eq!((list[1].network.as_str(), list[1].mime.as_str()), ("*", "*"));
        assert_eq!((list[2].profile.as_deref(), list[2].seek), (Some("A"), None));
        assert_eq!(read_list(&"a:*:b:*,".repeat(3000)).len(), ENTRIES);
        assert_eq!(read_list(&format!("{},x", " ".repeat(BYTES))).len(), 0);
    }

    #[test]
    fn flags_count_only_where_their_bit_20_says_so() {
        let flags = |digits: &str| {
            ReadInfo::read(&format!("http-get:*:a/b:DLNA.ORG_FLAGS={digits}")).unwrap().flags
        };
        assert_eq!(flags("01700000000000000000000000000000"), Some(FLAGS_FILE));
        assert_eq!(flags("01700000"), Some(FLAGS_FILE), "any length from 8 on (PROF-6)");
        assert_eq!(flags("8d100000000000000000000000000000"), Some(0x8d10_0000), "any case");
        assert_eq!(flags("01600000000000000000000000000000"), None, "bit 20 is 0 (PROF-7)");
        assert_eq!(flags("+1700000"), None);
        assert_eq!(flags("017"), None);
    }

    proptest! {
        #[test]
        fn what_we_write_is_read(profile in proptest::option::of(Just("MP3")), time: bool, bytes: bool, converted: bool, any: bool) {
            let info = ProtocolInfo { mime: "audio/mpeg".into(), profile, seek: Seek { time, bytes }, converted, flags: FLAGS_FILE, any };
            let list = read_list(&source_list([info.to_string(), "http-get:*:a/b,c\\d:*".into()]));
            prop_assert_eq!(list.len(), 2);
            prop_assert_eq!(&list[0].mime, "a/b,c\\d");
            let read = &list[1];
            prop_assert_eq!(read.profile.as_deref(), profile.filter(|_| !any));
            prop_assert_eq!(read.seek, (!any).then_some(Seek { time, bytes }));
            prop_assert_eq!(read.converted, converted && !any);
            prop_assert_eq!(read.flags, (!any).then_some(FLAGS_FILE));
        }
    }
}
