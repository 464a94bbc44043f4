//! Settings that belong to none of the owners of state.

use mostra_store::StoreError;

use crate::Context;

const CONSOLE_OPEN: &str = "console_open";

/// Whether a person opened the console to the house.
pub async fn console_is_open(context: &Context) -> bool {
    let open = context.records.setting(CONSOLE_OPEN).await;
    matches!(open, Ok(Some(open)) if open == "true")
}

/// Notes whether the console is open to the house.
///
/// # Errors
/// [`StoreError`] when it was not saved.
pub async fn set_console_open(context: &Context, open: bool) -> Result<(), StoreError> {
    let word = if open { "true" } else { "false" };
    context.records.set_setting(CONSOLE_OPEN, word).await
}
