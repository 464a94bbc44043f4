//! `mostrad save` and `mostrad restore`: the records as files, for whoever is on the host.

use std::path::{Path, PathBuf};
use std::time::Duration;

use mostra_app::saved_records::{RecordFiles, SavingError};
use mostra_app::{Clock, Context};
use mostra_core::saving::SavedBecause;
use mostra_store::Records;

use crate::config::Config;
use crate::startup_error::StartupError;

/// How long PostgreSQL is waited for.
const PATIENCE: Duration = Duration::from_secs(10);

/// The records as they are, of whatever version.
async fn records(config: &Config) -> Result<Records, StartupError> {
    Records::open_as_it_is(&config.database_url, PATIENCE).await.map_err(|error| {
        StartupError::new(error.to_string(), "Start PostgreSQL, or name another database.")
    })
}

fn failed(what: &str, error: &SavingError) -> StartupError {
    StartupError::new(format!("{what}: {error}"), &error.remedy())
}

/// Saves the records, as before an upgrade; prints where.
///
/// # Errors
/// [`StartupError`] with the remedy.
pub(crate) async fn save(config: &Config) -> Result<(), StartupError> {
    let context = Context::new(Clock::start(), records(config).await?, &config.data);
    let saved = RecordFiles::new(context, &config.data, config.databases());
    let made = saved.save(SavedBecause::BeforeUpgrade).await;
    let made = made.map_err(|error| failed("the records were not saved", &error))?;
    println!("The records are saved in {}.", place(config, &made.name).display());
    Ok(())
}

/// Restores a file, while no service runs.
///
/// # Errors
/// [`StartupError`] with the remedy; the records are as before then.
pub(crate) async fn restore(config: &Config, file: &Path) -> Result<(), StartupError> {
    let records = records(config).await?;
    let _hold = crate::records::hold(&records, config).await?;
    let saved = RecordFiles::new(
        Context::new(Clock::start(), records, &config.data),
        &config.data,
        config.databases(),
    );
    let named = place(config, &file.to_string_lossy());
    let file = if file.exists() { file } else { &named };
    let restored = saved.restore_now(file).await;
    let (manifest, tried) = restored
        .map_err(|error| failed(&format!("{} was not restored", file.display()), &error))?;
    println!(
        "The records of {}, saved by version {}, are restored. {} Start the service.",
        manifest.house,
        manifest.version,
        match tried.accounts.as_slice() {
            [] => "They have no account yet.".to_owned(),
            accounts => format!("Their accounts are: {}.", accounts.join(", ")),
        }
    );
    Ok(())
}

fn place(config: &Config, name: &str) -> PathBuf {
    config.data.join("saved").join(name)
}
