//! Logs, for people, as JSON, or to the journal.

use std::io::{self, Write};

use mostra_app::kept_log::KeptLog;
use tracing_subscriber::EnvFilter;
use tracing_subscriber::layer::SubscriberExt as _;
use tracing_subscriber::util::SubscriberInitExt as _;

use crate::config::{Config, LogFormat};

/// The parts whose messages the configured level is for; of others, warnings are logged.
const OURS: [&str; 6] = [
    "mostrad",
    "mostra_app",
    "mostra_net",
    "mostra_store",
    "mostra_directory",
    "mostra_console_api",
];

/// Starts logging to standard error as configured.
pub(crate) fn start(config: &Config) {
    let ours = OURS.map(|name| format!("{name}={}", config.log)).join(",");
    let filter =
        EnvFilter::try_new(format!("warn,{ours}")).unwrap_or_else(|_| EnvFilter::new("info"));
    // Under systemd standard error is the journal, which keeps fields apart where it is written to
    // by itself.
    let journal = (config.log_format == LogFormat::Auto
        && std::env::var_os("JOURNAL_STREAM").is_some())
    .then(tracing_journald::layer);
    // The latest lines are kept for whoever helps.
    let kept = tracing_subscriber::fmt::layer()
        .with_target(false)
        .with_ansi(false)
        .with_writer(|| KeptLog)
        .log_internal_errors(false);
    let all = tracing_subscriber::registry().with(filter).with(kept);
    if let Some(Ok(journal)) = journal {
        all.with(journal.with_syslog_identifier("mostrad".into())).init();
        return;
    }
    let shown = tracing_subscriber::fmt::layer().with_writer(|| Log).log_internal_errors(false);
    if config.log_format == LogFormat::Json {
        all.with(shown.json()).init();
    } else {
        all.with(shown.with_target(false).with_ansi(false)).init();
    }
}

/// Standard error. What cannot be written, as where the disk is full, is lost and stops nobody:
/// the library would tell of it on standard error as well, and whoever logged would panic.
struct Log;

impl Write for Log {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let _ = io::stderr().write_all(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
