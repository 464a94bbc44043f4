//! The last hand-over, by which the next one says what changed.

use mostra_core::handover::HandedOver;
use mostra_store::StoreError;
use serde::{Deserialize, Serialize};

use crate::Context;
use crate::clock::ms;

/// The setting that holds it.
const LAST: &str = "handover";

/// A hand-over as it is remembered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LastHandover {
    /// When it was, in milliseconds since the epoch.
    pub at_ms: u64,
    /// What was handed over.
    pub handed_over: HandedOver,
}

/// The last hand-over, if there was one.
///
/// # Errors
/// [`StoreError`] when the records do not answer.
pub async fn last(context: &Context) -> Result<Option<LastHandover>, StoreError> {
    let text = context.records.setting(LAST).await?;
    Ok(text.and_then(|text| serde_json::from_str(&text).ok()))
}

/// Remembers what is handed over now.
///
/// # Errors
/// [`StoreError`] when the records do not take it.
pub async fn remember(context: &Context, handed_over: HandedOver) -> Result<(), StoreError> {
    let one = LastHandover { at_ms: ms(context.now()), handed_over };
    let text = serde_json::to_string(&one).unwrap_or_default();
    context.records.set_setting(LAST, &text).await
}
