//! The records: PostgreSQL is waited for, and taken for this service alone.

use std::sync::Arc;
use std::time::Duration;

use mostra_app::Context;
use mostra_app::accounts::Accounts;
use mostra_core::not_now::NotNow;
use mostra_store::{Hold, Records, StoreError};

use crate::config::Config;
use crate::service_manager;
use crate::startup_error::StartupError;

/// Opens the records, and brings them to this version's form.
///
/// # Errors
/// [`StartupError`] with the remedy.
pub(crate) async fn open(config: &Config) -> Result<Records, StartupError> {
    let remedy = format!(
        "Start Debian's server with `scripts/postgres start {}`, or name another with MOSTRA_DATABASE_URL.",
        config.data.display()
    );
    if config.database_url.is_empty() {
        return Err(StartupError::new("no PostgreSQL is named", &remedy));
    }
    let failed = |error| match error {
        StoreError::NotNow(NotNow::NoAnswer | NotNow::NotReady | NotNow::NotLetIn, _) => {
            StartupError::new(format!("{error}"), &remedy)
        }
        StoreError::NotNow(cause, _) => StartupError::new(format!("{error}"), cause.remedy()),
        StoreError::Later(_) => StartupError::new(
            format!("{error}. Nothing was touched"),
            "Install that version or a later one again. Or go back to records that this version can read: mostrad restore FILE; some were saved before the upgrade, below saved/ in the data directory.",
        ),
        StoreError::NotMigrated(_) => StartupError::new(
            format!("{error}"),
            "Install the version before again, which goes on with them, and report this.",
        ),
        other => StartupError::new(
            format!("the records cannot be used: {other}"),
            "See PostgreSQL's log.",
        ),
    };
    if !service_manager::is_there() {
        return Records::open(&config.database_url, PATIENCE).await.map_err(failed);
    }
    // Whoever installs or starts it waits a minute with it; after that systemd starts it again and
    // again, and nobody waits.
    let until = tokio::time::Instant::now() + 2 * PATIENCE;
    loop {
        service_manager::waits("waiting for PostgreSQL", PATIENCE);
        match Records::open(&config.database_url, WORD).await {
            Err(error @ StoreError::NotNow(..)) if tokio::time::Instant::now() < until => {
                tracing::warn!("waiting for PostgreSQL: {error}");
            }
            other => return other.map_err(failed),
        }
    }
}

/// How often it is said that PostgreSQL is waited for.
const WORD: Duration = Duration::from_secs(10);

/// How long PostgreSQL is waited for at the start.
const PATIENCE: Duration = Duration::from_secs(30);

/// Takes the database for this service alone.
pub(crate) async fn hold(records: &Records, config: &Config) -> Result<Hold, StartupError> {
    let host = nix::unistd::gethostname().unwrap_or_default();
    let who = format!("mostrad {} on {}", std::process::id(), host.to_string_lossy());
    let until = tokio::time::Instant::now() + HELD;
    loop {
        match records.hold(&who).await {
            Ok(hold) => return Ok(hold),
            // One that was killed a moment ago has it until PostgreSQL notices.
            Err(StoreError::Held(_)) if tokio::time::Instant::now() < until => {
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
            Err(error) => {
                let remedy = format!(
                    "Stop that one, or give this one another data directory and database; this one's is {}.",
                    config.data.display()
                );
                return Err(StartupError::new(error.to_string(), &remedy));
            }
        }
    }
}

/// How long a database that another service holds is waited for.
const HELD: Duration = Duration::from_secs(3);

/// Holds the database, and notes the time in it; ends when another service has taken it.
pub(crate) async fn keep_hold(
    context: Context,
    accounts: Arc<Accounts>,
    mut hold: Hold,
) -> StoreError {
    let mut look = tokio::time::interval(Duration::from_secs(5));
    look.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut looks = 0_u64;
    loop {
        look.tick().await;
        match hold.keep().await {
            Err(error @ StoreError::Held(_)) => return error,
            // Whoever asks is told, though nothing was to be saved meanwhile.
            Err(error) => {
                context.set_records_answer(error.not_now() != Some(NotNow::NoAnswer));
            }
            Ok(()) => context.set_records_answer(true),
        }
        // Where a password was reset on the host, sessions ended that are still known here.
        accounts.refresh().await;
        if looks.is_multiple_of(12) {
            accounts.note_time().await;
        }
        looks += 1;
    }
}
