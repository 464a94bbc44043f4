//! The file of saved records: a tar archive with a manifest and the rows.

use std::fs::File;
use std::io::{self, Read, Write};
use std::path::Path;

use mostra_core::saving::{Manifest, Unfit};
use sha2::{Digest as _, Sha256};

/// The manifest, which comes first.
const MANIFEST: &str = "manifest.json";
/// The rows of all tables, as `mostra_store` writes them.
const ROWS: &str = "records.rows";
/// Bytes of a manifest at most.
const MANIFEST_BYTES: u64 = 4 << 20;

/// Why a file is none of saved records.
#[derive(Debug, thiserror::Error)]
pub enum ArchiveError {
    /// It cannot be read or written.
    #[error(transparent)]
    Io(#[from] io::Error),
    /// It is something else.
    #[error("it is no file of saved records")]
    Other,
    /// It is one, and cannot be taken.
    #[error(transparent)]
    Unfit(#[from] Unfit),
}

/// Writes the file. The manifest's bytes and sum are taken from the rows.
pub(super) fn write(
    mut manifest: Manifest,
    rows: &Path,
    to: &Path,
) -> Result<Manifest, ArchiveError> {
    let mut file = File::open(rows)?;
    (manifest.bytes, manifest.sha256) = sum(&mut file, io::sink())?;
    let head = serde_json::to_vec_pretty(&manifest).map_err(io::Error::other)?;
    let mut archive = tar::Builder::new(open_new(to)?);
    archive.append_data(&mut header(&manifest, head.len() as u64), MANIFEST, &head[..])?;
    let rows = File::open(rows)?;
    archive.append_data(&mut header(&manifest, manifest.bytes), ROWS, rows)?;
    archive.into_inner()?.sync_all()?;
    Ok(manifest)
}

fn header(manifest: &Manifest, bytes: u64) -> tar::Header {
    let mut header = tar::Header::new_gnu();
    header.set_size(bytes);
    header.set_mode(0o600);
    header.set_mtime(manifest.made_ms / 1000);
    header
}

/// A file for its owner only, which was not there before.
pub(super) fn open_new(path: &Path) -> io::Result<File> {
    use std::os::unix::fs::OpenOptionsExt as _;
    let _ = std::fs::remove_file(path);
    std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)
}

/// Reads what a file says of itself.
pub(super) fn manifest(path: &Path) -> Result<Manifest, ArchiveError> {
    let mut archive = tar::Archive::new(File::open(path)?);
    let mut entries = archive.entries().map_err(|_| ArchiveError::Other)?;
    manifest_of(entries.next())
}

fn manifest_of(entry: Option<io::Result<tar::Entry<'_, File>>>) -> Result<Manifest, ArchiveError> {
    let entry =
        entry.and_then(Result::ok).filter(|e| named(e, MANIFEST)).ok_or(ArchiveError::Other)?;
    let mut text = Vec::new();
    entry.take(MANIFEST_BYTES).read_to_end(&mut text).map_err(|_| ArchiveError::Other)?;
    serde_json::from_slice(&text).map_err(|_| ArchiveError::Other)
}

fn named(entry: &tar::Entry<'_, File>, name: &str) -> bool {
    entry.header().entry_type().is_file() && entry.path_bytes().as_ref() == name.as_bytes()
}

/// Checks a file, for a program that knows these forms of the tables, and writes its rows into
/// `to`, or nowhere.
pub(super) fn extract(
    path: &Path,
    known: &[String],
    to: Option<&Path>,
) -> Result<Manifest, ArchiveError> {
    let mut archive = tar::Archive::new(File::open(path)?);
    let mut entries = archive.entries().map_err(|_| ArchiveError::Other)?;
    let manifest = manifest_of(entries.next())?;
    manifest.check(known)?;
    let rows = entries.next().and_then(Result::ok).filter(|entry| named(entry, ROWS));
    let rows = rows.ok_or(Unfit::Damaged)?;
    let mut rows = rows.take(manifest.bytes);
    let (bytes, digest) = match to {
        Some(to) => sum(&mut rows, open_new(to)?)?,
        None => sum(&mut rows, io::sink())?,
    };
    if bytes != manifest.bytes || digest != manifest.sha256 {
        return Err(Unfit::Damaged.into());
    }
    Ok(manifest)
}

/// Copies, and gives bytes and SHA-256 of what was copied.
fn sum(from: &mut impl Read, mut to: impl Write) -> io::Result<(u64, String)> {
    let (mut digest, mut bytes) = (Sha256::new(), 0);
    let mut buffer = vec![0; 256 << 10];
    loop {
        let read = from.read(&mut buffer)?;
        if read == 0 {
            to.flush()?;
            let digest = digest.finalize();
            return Ok((bytes, digest.iter().map(|byte| format!("{byte:02x}")).collect()));
        }
        digest.update(&buffer[..read]);
        to.write_all(&buffer[..read])?;
        bytes += read as u64;
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use mostra_core::saving::{FORMAT, SavedBecause};

    use super::*;

    fn some(schema: &str) -> Manifest {
        Manifest {
            format: FORMAT,
            version: "0.1.0".into(),
            schema: schema.into(),
            made_ms: 1_790_000_000_000,
            because: SavedBecause::Asked,
            house: "Pellworth Light".into(),
            counts: BTreeMap::new(),
            folders: vec![("Films".into(), "/srv/films".into())],
            bytes: 0,
            sha256: String::new(),
        }
    }

    #[test]
    fn what_is_written_reads_back_and_damage_is_seen() {
        let place = tempfile::tempdir().unwrap();
        let at = |name: &str| place.path().join(name);
        let rows: Vec<u8> = (0..500_000_u32).flat_map(u32::to_le_bytes).collect();
        std::fs::write(at("rows"), &rows).unwrap();
        let written = write(some("m2"), &at("rows"), &at("a.tar")).unwrap();
        let known = ["m1".to_owned(), "m2".to_owned()];
        assert_eq!(manifest(&at("a.tar")).unwrap(), written);
        assert_eq!(extract(&at("a.tar"), &known, Some(&at("out"))).unwrap(), written);
        assert_eq!(std::fs::read(at("out")).unwrap(), rows);
        let unfit = extract(&at("a.tar"), &known[..1], None);
        assert!(matches!(unfit, Err(ArchiveError::Unfit(Unfit::Later(_)))));
        let whole = std::fs::read(at("a.tar")).unwrap();
        // Cut off anywhere, or one bit changed anywhere: never taken.
        for n in 1..60 {
            let at_byte = whole.len() * n / 60;
            std::fs::write(at("b.tar"), &whole[..at_byte]).unwrap();
            let cut = extract(&at("b.tar"), &known, None);
            assert!(cut.is_err() || at_byte >= whole.len() - 1024 - 512, "cut at {at_byte}");
            let mut changed = whole.clone();
            changed[at_byte] ^= 1;
            std::fs::write(at("b.tar"), &changed).unwrap();
            let taken = extract(&at("b.tar"), &known, None);
            assert!(taken.is_err() || at_byte >= whole.len() - 2048, "changed at {at_byte}");
        }
        for other in ["", "no archive at all", "\0\0\0\0"] {
            std::fs::write(at("c.tar"), other).unwrap();
            assert!(matches!(manifest(&at("c.tar")), Err(ArchiveError::Other)), "{other:?}");
        }
    }
}
