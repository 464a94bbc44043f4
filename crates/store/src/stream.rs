//! All files out of the records, as a copy stream: a million of them are read at start.

use std::sync::Arc;

use futures_util::StreamExt as _;
use mostra_core::catalogue::File;
use mostra_core::facts::Facts;
use sea_orm::sqlx::postgres::PgPoolCopyExt as _;
use tokio::sync::mpsc::Sender;

use crate::{Records, StoreError};

/// Some files' records, whole lines of PostgreSQL's text format, not yet read.
#[derive(Debug, Default)]
pub struct RawFiles(Vec<u8>);

/// Bytes in one piece, about.
const PIECE: usize = 64 << 10;

impl RawFiles {
    /// Reads them.
    ///
    /// # Errors
    /// [`StoreError::Damaged`] when one does not read.
    pub fn read(self) -> Result<Vec<File>, StoreError> {
        let text = std::str::from_utf8(&self.0)
            .map_err(|e| StoreError::Damaged(format!("a file's record: {e}")))?;
        text.lines().map(file).collect()
    }
}

fn file(line: &str) -> Result<File, StoreError> {
    let damaged = |what: &dyn std::fmt::Display| {
        let id = line.split('\t').next().unwrap_or_default();
        StoreError::Damaged(format!("file {id}: {what}"))
    };
    let mut fields = line.split('\t');
    let mut field = || fields.next().ok_or_else(|| damaged(&"a field is missing"));
    let (serial, directory, name, facts) = (field()?, field()?, field()?, field()?);
    let number = |text: &str| text.parse::<u32>().map_err(|e| damaged(&e));
    let facts: Facts = match facts.contains('\\') {
        true => serde_json::from_str(&unescape(facts)),
        false => serde_json::from_str(facts),
    }
    .map_err(|e| damaged(&e))?;
    Ok(File {
        serial: number(serial)?,
        directory: number(directory)?,
        name: unescape(name),
        facts: Arc::new(facts),
    })
}

/// A value of PostgreSQL's text format, as it was.
fn unescape(value: &str) -> String {
    let mut out = String::with_capacity(value.len());
    let mut rest = value;
    while let Some(at) = rest.find('\\') {
        out.push_str(&rest[..at]);
        let mut after = rest[at + 1..].chars();
        match after.next() {
            Some('b') => out.push('\u{8}'),
            Some('f') => out.push('\u{c}'),
            Some('n') => out.push('\n'),
            Some('r') => out.push('\r'),
            Some('t') => out.push('\t'),
            Some('v') => out.push('\u{b}'),
            Some(other) => out.push(other),
            None => {}
        }
        rest = after.as_str();
    }
    out.push_str(rest);
    out
}

impl Records {
    /// Reads all files, or those of one folder, and sends them in pieces; none is kept here.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn files(
        &self,
        only: Option<u32>,
        sender: &Sender<RawFiles>,
    ) -> Result<(), StoreError> {
        let away = |error: sea_orm::sqlx::Error| StoreError::Away(error.to_string());
        let within = match only {
            None => "file (id, container_id, name, facts)".to_owned(),
            Some(folder) => format!(
                "(select id, container_id, name, facts from file where container_id in \
                 (select id from container where folder_id = {folder}))"
            ),
        };
        let pool = self.database.get_postgres_connection_pool();
        let mut stream =
            pool.copy_out_raw(&format!("copy {within} to stdout")).await.map_err(away)?;
        let mut piece = RawFiles::default();
        while let Some(line) = stream.next().await {
            // The server sends a line at a time.
            piece.0.extend_from_slice(&line.map_err(away)?);
            if piece.0.len() >= PIECE
                && piece.0.ends_with(b"\n")
                && sender.send(std::mem::take(&mut piece)).await.is_err()
            {
                // Nobody listens any more: whoever asked has given up.
                return Ok(());
            }
        }
        let _ = sender.send(piece).await;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_come_back_as_they_were() {
        assert_eq!(unescape("a\\\\b\\tc\\nd\\re\\vf"), "a\\b\tc\nd\re\u{b}f");
        let line = b"7\t3\ta\\tb.mp3\t{\"kind\":\"music\",\"format\":\"mp3\",\"size\":5,\"modified_ms\":6,\"title\":\"x\\\\\"y\"}\n";
        let files = RawFiles(line.to_vec()).read().unwrap();
        assert_eq!((files[0].serial, files[0].name.as_str()), (7, "a\tb.mp3"));
        assert_eq!(files[0].facts.title.as_deref(), Some("x\"y"));
        assert!(RawFiles(b"7\t3\n".to_vec()).read().is_err());
    }
}
