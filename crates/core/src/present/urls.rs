//! The paths of an item's resources, written and read.

use super::{fit, profile};
use crate::catalogue::ItemView;
use crate::facts::Facts;
use crate::format::FileClass;
use crate::profile::Rendition;
use crate::resource::{Length, Resource, Source};
use crate::samples::Samples;
use crate::shards::{mix, mix_text};
use crate::traits::Traits;

/// The extension of samples without a header.
const SAMPLES: &str = "l16";

/// What a path asks for of an item.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RequestedResource {
    /// Its file, or its broadcast.
    Original,
    /// A picture of it.
    Picture(Rendition),
    /// The samples in it, without a header.
    Samples,
    /// Subtitles by number, in a form.
    Captions(usize, bool),
    /// Subtitles in a form by the film's own URL with their extension in place of its own, for
    /// players that know no other way (IOP-38).
    AnyCaptions(bool),
}

/// The object id in a path of ours, and what is asked for.
pub fn wanted(path: &str) -> Option<(&str, RequestedResource)> {
    let (directory, name) = path.strip_prefix('/')?.split_once('/')?;
    let mut parts = name.split('.');
    let id = parts.next()?;
    match directory {
        "media" => {
            let extension = name.rsplit_once('.').map(|(_, extension)| extension);
            let captions = extension.and_then(is_webvtt).map(RequestedResource::AnyCaptions);
            Some((id, captions.unwrap_or(RequestedResource::Original)))
        }
        "art" => {
            let (_, word) = (parts.next()?, parts.next()?);
            Some((id, RequestedResource::Picture(Rendition::from_word(word)?)))
        }
        "samples" => (parts.next()? == SAMPLES).then_some((id, RequestedResource::Samples)),
        "captions" => {
            let (number, word) = (parts.next()?.parse().ok()?, parts.next()?);
            Some((id, RequestedResource::Captions(number, is_webvtt(word)?)))
        }
        _ => None,
    }
}

fn is_webvtt(extension: &str) -> Option<bool> {
    match FileClass::of_extension(extension) {
        FileClass::Captions { webvtt } => Some(webvtt),
        _ => None,
    }
}

/// The resource of an item that is asked for, as it is listed for a device.
pub fn resource(item: &ItemView, wanted: RequestedResource, traits: &Traits) -> Option<Resource> {
    let facts = &item.facts;
    let made = |source, info| Resource {
        source,
        info: fit::info(info, None, traits),
        length: Length::Unknown,
        duration_ms: None,
    };
    Some(match wanted {
        RequestedResource::Original => {
            let (source, length) = match &facts.station {
                Some(address) => (Source::Station { address: address.clone() }, Length::Unknown),
                None => (Source::File, Length::Known(facts.size)),
            };
            let info = super::original_info(item, traits);
            Resource { source, info, length, duration_ms: facts.duration_ms }
        }
        RequestedResource::Picture(rendition) => {
            made(Source::Picture(rendition), rendition.protocol_info())
        }
        RequestedResource::Samples => {
            let samples = Samples::of(facts)?;
            Resource {
                length: Length::Known(samples.length),
                duration_ms: facts.duration_ms,
                ..made(Source::Samples(samples), samples.protocol_info())
            }
        }
        RequestedResource::Captions(number, webvtt) => {
            facts.captions.get(number)?;
            made(Source::Captions { number, webvtt }, profile::caption_info(webvtt))
        }
        RequestedResource::AnyCaptions(webvtt) => {
            // One that has the form already, else one of which it can be made.
            let captions = &facts.captions;
            let ready = captions.iter().position(|caption| caption.webvtt == webvtt);
            let number = ready.or(Some(0).filter(|_| !captions.is_empty()))?;
            made(Source::Captions { number, webvtt }, profile::caption_info(webvtt))
        }
    })
}

/// The path at which an item's file is served.
pub fn media_path(id: &str, item: &ItemView) -> String {
    let original = item.reference.as_deref().unwrap_or(id);
    ["/media/", original, ".", item.facts.format.extension()].concat()
}

/// The path of a picture that stands for an item, or of a smaller form of a picture. It
/// changes when what it shows does (CDS-58).
pub fn art_path(original: &str, facts: &Facts, rendition: Rendition) -> String {
    [&art_stem(original, facts), rendition.word(), ".jpg"].concat()
}

pub(super) fn art_stem(original: &str, facts: &Facts) -> String {
    // The stamp in hexadecimal; a page has many of these.
    let (stamp, mut digits) = (art_stamp(facts), [0; 16]);
    let shown = (16 - stamp.leading_zeros() as usize / 4).max(1);
    for (place, digit) in digits[16 - shown..].iter_mut().enumerate() {
        *digit = b"0123456789abcdef"[(stamp >> (4 * (shown - 1 - place)) & 15) as usize];
    }
    let stamp = std::str::from_utf8(&digits[16 - shown..]).unwrap_or_default();
    ["/art/", original, ".", stamp, "."].concat()
}

/// A number that changes when the picture of an item may have.
pub fn art_stamp(facts: &Facts) -> u64 {
    let seed = mix(facts.modified_ms as u64, facts.size);
    mix_text(seed, facts.art.as_deref().unwrap_or_default()) >> 16
}

/// The path of the samples in a file.
pub fn samples_path(original: &str) -> String {
    format!("/samples/{original}.{SAMPLES}")
}

/// The path of a subtitle file.
pub fn caption_path(original: &str, number: usize, webvtt: bool) -> String {
    format!("/captions/{original}.{number}.{}", if webvtt { "vtt" } else { "srt" })
}

/// The field of an answer that names the subtitles of an item, for devices that want it (IOP-38).
/// `asks` says whether a field is in the request, `base` is how the device reaches us.
pub fn caption_field(
    item: &ItemView,
    id: &str,
    traits: &Traits,
    base: &str,
    asks: impl Fn(&str) -> bool,
) -> Option<(String, String)> {
    let field = traits.caption_field.as_ref()?;
    let caption = item.facts.captions.first()?;
    if field.asked.as_ref().is_some_and(|name| !asks(&name.to_ascii_lowercase())) {
        return None;
    }
    let original = item.reference.as_deref().unwrap_or(id);
    let path = caption_path(original, 0, caption.webvtt);
    Some((field.answer.clone(), format!("{base}{path}")))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Kind;
    use crate::format::Format;

    #[test]
    fn paths_read_back() {
        let facts = Facts::bare(Kind::Picture, Format::Jpeg, 1, 0);
        for rendition in Rendition::ALL {
            let path = art_path("f7", &facts, rendition);
            assert_eq!(
                wanted(&path),
                Some(("f7", RequestedResource::Picture(rendition))),
                "{path}"
            );
        }
        for webvtt in [true, false] {
            let path = caption_path("f7", 2, webvtt);
            assert_eq!(wanted(&path), Some(("f7", RequestedResource::Captions(2, webvtt))));
        }
        assert_eq!(wanted(&samples_path("f7")), Some(("f7", RequestedResource::Samples)));
        assert_eq!(wanted("/media/f7.mp4"), Some(("f7", RequestedResource::Original)));
        assert_eq!(wanted("/media/f7"), Some(("f7", RequestedResource::Original)));
        assert_eq!(wanted("/media/f7.srt"), Some(("f7", RequestedResource::AnyCaptions(false))));
        for other in [
            "/",
            "media/f7.mp4",
            "/other/f7",
            "/art/f7.1.huge.jpg",
            "/art/f7",
            "/samples/f7",
            "/samples/f7.wav",
            "/captions/f7.x.srt",
            "/captions/f7.1.txt",
            "/captions/f7.1",
        ] {
            assert_eq!(wanted(other), None, "{other}");
        }
    }
}
