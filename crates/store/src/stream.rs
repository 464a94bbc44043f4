//! All files out of the records, as a copy stream: a million of them are read at start.

use futures_util::StreamExt as _;
use mostra_core::catalogue::File;
use mostra_core::ids::FolderId;
use sea_orm::sqlx::postgres::PgPoolCopyExt as _;
use tokio::sync::mpsc::Sender;

use crate::{Records, StoreError, copied};

/// Some files' records, whole rows of PostgreSQL's binary format, not yet read.
#[derive(Debug, Default)]
pub struct RawFiles(Vec<u8>);

/// Bytes in one piece, about.
const PIECE: usize = 64 << 10;

impl RawFiles {
    /// Reads them. Those that cannot be read are passed over, and [`Records::unread`] names them.
    ///
    /// # Errors
    /// [`StoreError::Damaged`] when they are cut off.
    pub fn read(self, records: &Records) -> Result<Vec<File>, StoreError> {
        copied::read(&self.0, &records.unread)
    }
}

impl Records {
    /// Reads all files, or those of one folder, and sends them in pieces; none is kept here.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn files(
        &self,
        only: Option<FolderId>,
        sender: &Sender<RawFiles>,
    ) -> Result<(), StoreError> {
        let within = match only {
            None => "file (id, container_id, name, facts)".to_owned(),
            Some(folder) => format!(
                "(select id, container_id, name, facts from file where container_id in \
                 (select id from container where folder_id = {folder}))"
            ),
        };
        let pool = self.database.get_postgres_connection_pool();
        let mut stream =
            pool.copy_out_raw(&format!("copy {within} to stdout (format binary)")).await?;
        let mut piece = RawFiles::default();
        while let Some(row) = stream.next().await {
            // The server sends a row at a time, each in a message of its own.
            piece.0.extend_from_slice(&row?);
            if piece.0.len() >= PIECE && sender.send(std::mem::take(&mut piece)).await.is_err() {
                // Nobody listens any more: whoever asked has given up.
                return Ok(());
            }
        }
        let _ = sender.send(piece).await;
        Ok(())
    }
}
