//! Where people stopped in items.

use std::collections::HashMap;

use mostra_core::access::Pass;
use mostra_core::account::SignedIn;
use mostra_core::catalogue::{Node, Object};
use mostra_core::ids::FileId;
use mostra_store::{Position, StoreError};

use super::Library;

/// Items shown at most of those that a person began.
const BEGUN: usize = 20;

impl Library {
    /// Where a person stopped in files, by serial; nothing while the records are away.
    pub async fn positions(&self, who: &SignedIn, files: &[FileId]) -> HashMap<FileId, Position> {
        if files.is_empty() || !self.context.records_answer() {
            return HashMap::new();
        }
        let known = self.context.records.positions(who.account(), Some(files)).await;
        known.unwrap_or_default().into_iter().map(|at| (at.file, at)).collect()
    }

    /// Notes where a person stopped in an item; false if there is no such item.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn set_position(
        &self,
        who: &SignedIn,
        id: &str,
        position_ms: u64,
        seen: bool,
    ) -> Result<bool, StoreError> {
        let object = self.catalogue().object(&Pass::for_account(who), id);
        let Some(Node::Item(item)) = object.map(|object| object.node) else { return Ok(false) };
        let at = Position { file: item.serial, position_ms, seen, at: self.context.now() };
        self.context.records.set_position(who.account(), &at).await?;
        Ok(true)
    }

    /// What a person began and did not finish, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer.
    pub async fn begun(&self, who: &SignedIn) -> Result<Vec<(Object, Position)>, StoreError> {
        let (catalogue, pass) = (self.catalogue(), Pass::for_account(who));
        let all = self.context.records.positions(who.account(), None).await?;
        let begun = all.into_iter().filter(|at| !at.seen && at.position_ms > 0);
        let objects = begun.filter_map(|at| Some((catalogue.original(&pass, at.file)?, at)));
        Ok(objects.take(BEGUN).collect())
    }
}
