//! Rows that this version cannot read. They stay in their tables, as a later version may read them,
//! and cost nothing but themselves; here is kept which they are.

use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};

/// Rows of which it is kept which they are.
const NAMED: usize = 1000;

/// Rows that could not be read since the start, by table and number.
#[derive(Debug, Default)]
pub(crate) struct UnreadRows(Mutex<BTreeMap<String, String>>);

impl UnreadRows {
    /// Notes a row and why it cannot be read.
    pub(crate) fn note(&self, row: String, why: &dyn std::fmt::Display) {
        let mut rows = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if rows.contains_key(&row) || rows.len() >= NAMED {
            return;
        }
        tracing::warn!("{row} of the records cannot be read, and is set aside: {why}");
        rows.insert(row, why.to_string());
    }

    /// Which they are: table and number, and why.
    pub(crate) fn all(&self) -> Vec<(String, String)> {
        let rows = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        rows.iter().map(|(row, why)| (row.clone(), why.clone())).collect()
    }

    /// What a row gives, or nothing where it cannot be read.
    pub(crate) fn pass_over<T, E: std::fmt::Display>(
        &self,
        row: impl FnOnce() -> String,
        read: Result<T, E>,
    ) -> Option<T> {
        read.map_err(|why| self.note(row(), &why)).ok()
    }
}
