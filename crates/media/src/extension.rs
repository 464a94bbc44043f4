//! File names' extensions.

use std::ops::Deref;

/// The extension of a file name in small letters; empty if there is none, or none of up to eight
/// ASCII characters, as those of all formats are. It is asked for several times for each of
/// a hundred thousand files, and takes no memory of its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Extension {
    text: [u8; 8],
    length: usize,
}

impl Extension {
    /// That of a name, or of a path. A name that is nothing but an extension has none.
    pub fn of(name: &str) -> Extension {
        let mut extension = Extension::default();
        let name = name.rsplit('/').next().unwrap_or(name).as_bytes();
        let Some(dot) = name.iter().rposition(|byte| *byte == b'.').filter(|at| *at > 0) else {
            return extension;
        };
        let found = &name[dot + 1..];
        if found.is_ascii()
            && let Some(text) = extension.text.get_mut(..found.len())
        {
            text.copy_from_slice(found);
            text.make_ascii_lowercase();
            extension.length = found.len();
        }
        extension
    }
}

impl Deref for Extension {
    type Target = str;

    fn deref(&self) -> &str {
        std::str::from_utf8(&self.text[..self.length]).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn extensions_are_what_follows_the_last_dot() {
        for (name, extension) in [
            ("Fog.MP4", "mp4"),
            ("Box.1/Fog.tar.gz", "gz"),
            ("Box.1/Fog", ""),
            (".mp4", ""),
            ("a/.mp4", ""),
            ("Fog.", ""),
            ("", ""),
            ("Fog.k\u{212a}", ""),
            ("Fog.longerthan", ""),
            ("Fog.eightltr", "eightltr"),
        ] {
            assert_eq!(&*Extension::of(name), extension, "{name}");
        }
    }
}
