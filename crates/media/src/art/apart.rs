//! Making pictures in a process of its own: whatever a damaged or hostile file does to its reader
//! costs one picture.

use std::fs::File;
use std::io::{Error, ErrorKind, Write as _};
use std::os::fd::AsFd as _;
use std::time::Duration;

use mostra_core::format::Format;
use mostra_core::profile::Rendition;
use nix::sys::resource::{Resource, getrlimit, setrlimit};

use super::film::PROGRAMS;
use super::{MEMORY, PictureSource, Renditions, make};
use crate::external_program::{self, ExternalProgram};

/// Seconds of a processor that the process may take.
const PROCESSOR: u64 = 60;

/// What came of making a picture in a process of its own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Made {
    /// The pictures.
    Pictures(Renditions),
    /// There is none that can be read, or reading it failed for good.
    None,
    /// It took too long; another time may be better.
    Late,
}

/// How much of the host making a picture may take.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Priority {
    /// As all else: somebody waits for it.
    Usual,
    /// What nothing else wants.
    Low,
}

/// The argument by which a program is told to [make a picture](make_for_parent).
pub const MAKE: &str = "make-picture";

/// Makes a picture in a process of its own, which runs this program with [`MAKE`] as its first
/// argument. `held` is dropped once that process has gone.
pub fn make_apart<T: Send + 'static>(
    source: PictureSource,
    wanted: Rendition,
    priority: Priority,
    patience: Duration,
    held: T,
) -> Made {
    let (kind, detail, format, file) = match source {
        PictureSource::Picture(file, orientation) => {
            ("picture", orientation.unwrap_or(1).to_string(), "", file)
        }
        PictureSource::Embedded(file, format) => {
            ("embedded", String::new(), format.extension(), file)
        }
        PictureSource::Film(file, duration, format) => {
            let length = duration.map_or("still".into(), |ms| ms.to_string());
            ("film", length, format.extension(), file)
        }
    };
    let (Ok(directory), Ok(program)) =
        (tempfile::tempdir(), ExternalProgram::new("/proc/self/exe").reading(&file))
    else {
        return Made::Late;
    };
    let program = program
        .args([MAKE, wanted.word(), kind, &detail, format])
        // The allocator would take the whole of its memory at once, and leave none for other programs.
        .env("MIMALLOC_ARENA_RESERVE", "0")
        .env("TMPDIR", directory.path())
        .writing_in(directory.path())
        .starting(&PROGRAMS)
        .low(priority == Priority::Low)
        .within(None);
    match external_program::run(program, patience, (held, directory)) {
        external_program::Ended::Well(bytes) => match unpacked(&bytes) {
            Some(made) if !made.is_empty() => Made::Pictures(made),
            _ => Made::None,
        },
        external_program::Ended::Badly => Made::None,
        external_program::Ended::Late => Made::Late,
    }
}

/// The other half: what [`make_apart`] runs, with the arguments after [`MAKE`]. The file comes as
/// standard input, the pictures go to standard output.
///
/// # Errors
/// For arguments that it does not know, and when the pictures cannot be written.
pub fn make_for_parent(arguments: &[String]) -> std::io::Result<()> {
    let wrong = || Error::from(ErrorKind::InvalidInput);
    let [wanted, kind, detail, format] = arguments else { return Err(wrong()) };
    // Only the soft limit, as the programs that this one may run have their own.
    let (_, hard) = getrlimit(Resource::RLIMIT_AS)?;
    setrlimit(Resource::RLIMIT_AS, MEMORY.min(hard), hard)?;
    let (_, hard) = getrlimit(Resource::RLIMIT_CPU)?;
    setrlimit(Resource::RLIMIT_CPU, PROCESSOR.min(hard), hard)?;
    let wanted = Rendition::from_word(wanted).ok_or_else(wrong)?;
    let file = File::from(std::io::stdin().as_fd().try_clone_to_owned()?);
    let format = Format::ALL.into_iter().find(|one| one.extension() == format).ok_or_else(wrong);
    let source = match kind.as_str() {
        "picture" => PictureSource::Picture(file, detail.parse().ok()),
        "embedded" => PictureSource::Embedded(file, format?),
        "film" => PictureSource::Film(file, detail.parse().ok(), format?),
        _ => return Err(wrong()),
    };
    std::io::stdout().write_all(&packed(&make(source, wanted)))
}

/// Pictures one after the other, each with the number of its rendition and its length before it.
fn packed(pictures: &[(Rendition, Vec<u8>)]) -> Vec<u8> {
    let mut bytes = Vec::new();
    for (rendition, jpeg) in pictures {
        let number = Rendition::ALL.iter().position(|one| one == rendition).unwrap_or_default();
        bytes.push(number as u8);
        bytes.extend((jpeg.len() as u32).to_be_bytes());
        bytes.extend(jpeg);
    }
    bytes
}

/// Reads [`packed`]; `None` for anything else: the process that wrote it read a stranger's file.
fn unpacked(mut bytes: &[u8]) -> Option<Renditions> {
    let mut all = Vec::new();
    while let Some((number, rest)) = bytes.split_first() {
        let rendition = *Rendition::ALL.get(usize::from(*number))?;
        let (length, rest) = rest.split_at_checked(4)?;
        let length = u32::from_be_bytes(length.try_into().ok()?) as usize;
        let (jpeg, rest) = rest.split_at_checked(length)?;
        if jpeg.is_empty() || all.iter().any(|(other, _)| *other == rendition) {
            return None;
        }
        all.push((rendition, jpeg.to_vec()));
        bytes = rest;
    }
    Some(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pictures_come_through_the_pipe_and_nothing_else_does() {
        let all = vec![(Rendition::Medium, vec![1, 2, 3]), (Rendition::Thumbnail, vec![4])];
        let bytes = packed(&all);
        assert_eq!(unpacked(&bytes), Some(all));
        assert_eq!(unpacked(&[]), Some(vec![]));
        for cut in 1..bytes.len() {
            assert!(unpacked(&bytes[..cut]).is_none_or(|made| made.len() == 1), "{cut}");
        }
        assert_eq!(unpacked(&[9, 0, 0, 0, 1, 7]), None, "no such rendition");
        assert_eq!(unpacked(&[0, 255, 255, 255, 255, 7]), None);
        assert_eq!(unpacked(&[0, 0, 0, 0, 1, 7, 0, 0, 0, 0, 1, 7]), None, "twice the same");
    }
}
