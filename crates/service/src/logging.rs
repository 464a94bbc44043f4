//! Logs, for people or as JSON.

use tracing_subscriber::EnvFilter;

use crate::config::Config;

/// Starts logging to standard error as configured.
pub fn start(config: &Config) {
    let filter = EnvFilter::try_new(format!("warn,mostrad={0},mostra_store={0}", config.log))
        .unwrap_or_else(|_| EnvFilter::new("info"));
    let builder = tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr);
    if config.log_json {
        builder.json().init();
    } else {
        builder.with_target(false).with_ansi(false).init();
    }
}

/// Text from a peer, made fit for logs, pages and records: one line, at most 256 characters
/// (SEC-16).
pub fn tame(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).take(256).collect()
}
