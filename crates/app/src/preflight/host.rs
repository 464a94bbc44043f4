//! The host itself.

use std::path::Path;

use mostra_core::preflight::{DatabaseFacts, FfmpegFacts, HostFacts, SleepFacts};
use mostra_media::confinement::{Confinement, confinement};
use mostra_media::test_pieces;

use super::program::{line, output};
use crate::devices::Devices;
use crate::{Clock, Context};

/// Milliseconds of a year.
const YEAR_MS: u64 = 31_556_952_000;
/// Names of people read of the system's accounts.
const PEOPLE: usize = 64;

/// What is known of the host.
pub(super) async fn look(context: &Context, devices: &Devices, data: &Path) -> HostFacts {
    let (ffmpeg, database) = tokio::join!(ffmpeg(), database(context));
    let mut versions = vec![("Mostra".to_owned(), env!("CARGO_PKG_VERSION").to_owned())];
    let kernel = rustix::system::uname();
    versions.push(("Linux".into(), kernel.release().to_string_lossy().into_owned()));
    let system = std::fs::read_to_string("/etc/os-release").unwrap_or_default();
    let pretty = system.lines().find_map(|line| line.strip_prefix("PRETTY_NAME="));
    versions.extend(pretty.map(|name| ("System".into(), name.trim_matches('"').to_owned())));
    versions.extend(database.version.clone().map(|version| ("PostgreSQL".into(), version)));
    versions.extend(ffmpeg.as_ref().map(|facts| ("ffmpeg".into(), facts.version.clone())));
    HostFacts {
        name: kernel.nodename().to_string_lossy().into_owned(),
        people: people(),
        clock_set: match line("timedatectl", &["show", "-p", "NTPSynchronized", "--value"]).await {
            Some(word) if word == "yes" => Some(true),
            Some(word) if word == "no" => Some(false),
            _ => None,
        },
        year: 1970 + i32::try_from(Clock::wall().as_millis() / YEAR_MS).unwrap_or(0),
        sleep: sleep().await,
        database,
        data_free: super::free(data),
        ffmpeg,
        not_confined: not_confined().await,
        starts_with_machine: starts().await,
        versions,
        dropped: devices.dropped(),
        ended: Vec::new(),
    }
}

/// What of confining the programs that read media this host does not enforce.
async fn not_confined() -> Option<String> {
    match tokio::task::spawn_blocking(confinement).await {
        Ok(Confinement::Whole) => None,
        Ok(Confinement::Lacking(what)) => Some(what),
        Err(error) => Some(error.to_string()),
    }
}

/// Names of people who have an account here.
fn people() -> Vec<String> {
    let accounts = std::fs::read_to_string("/etc/passwd").unwrap_or_default();
    let names = accounts.lines().filter_map(|line| {
        let mut fields = line.split(':');
        let (name, user) = (fields.next()?, fields.nth(1)?.parse::<u32>().ok()?);
        let whole = fields.nth(1)?.split(',').next()?;
        let of_a_person = (1000..60_000).contains(&user);
        of_a_person.then(|| {
            let words = whole.split_whitespace().map(str::to_owned);
            words.chain([name.to_owned()]).collect::<Vec<_>>()
        })
    });
    names.flatten().take(PEOPLE).collect()
}

async fn sleep() -> SleepFacts {
    let states = std::fs::read_to_string("/sys/power/state").ok();
    let masked = line("systemctl", &["is-enabled", "sleep.target"]).await;
    // A masked unit makes the program fail, and it says so all the same.
    let masked = masked.is_none()
        && Path::new("/etc/systemd/system/sleep.target")
            .read_link()
            .is_ok_and(|to| to == Path::new("/dev/null"));
    let can = states.map(|states| !states.trim().is_empty() && !masked);
    let lids = std::fs::read_dir("/proc/acpi/button/lid").is_ok_and(|mut all| all.next().is_some());
    let setting = |name: &str, usual: &str| logind(name).unwrap_or_else(|| usual.to_owned());
    SleepFacts {
        can,
        has_lid: lids,
        lid: Some(setting("HandleLidSwitch", "suspend")),
        idle: Some(setting("IdleAction", "ignore")),
    }
}

/// A setting of the login manager; what stands last counts.
fn logind(name: &str) -> Option<String> {
    let mut files = vec![Path::new("/etc/systemd/logind.conf").to_owned()];
    let more = std::fs::read_dir("/etc/systemd/logind.conf.d").into_iter().flatten().flatten();
    let mut more: Vec<_> = more.map(|entry| entry.path()).collect();
    more.sort();
    files.extend(more);
    let of = |file: &std::path::PathBuf| {
        let text = std::fs::read_to_string(file).ok()?;
        text.lines().rev().find_map(|line| {
            let (known, value) = line.split_once('=')?;
            (known.trim() == name).then(|| value.trim().to_owned())
        })
    };
    files.iter().rev().find_map(of)
}

async fn ffmpeg() -> Option<FfmpegFacts> {
    let first = line("ffmpeg", &["-hide_banner", "-version"]).await?;
    let version = first.split_whitespace().nth(2).unwrap_or("unknown").to_owned();
    let listed = output("ffmpeg", &["-hide_banner", "-encoders"], 1 << 20).await?;
    let has =
        |name: &&str| listed.lines().any(|line| line.split_whitespace().nth(1) == Some(*name));
    let (there, missing) = test_pieces::encoders().into_iter().partition(has);
    let named = |names: Vec<&str>| names.into_iter().map(str::to_owned).collect();
    Some(FfmpegFacts { version, has: named(there), missing: named(missing) })
}

async fn database(context: &Context) -> DatabaseFacts {
    let Ok(health) = context.records.health().await else { return DatabaseFacts::default() };
    let free = health.directory.as_deref().and_then(|place| super::free(Path::new(place)));
    let (version, size) = (Some(health.version), Some(health.size));
    DatabaseFacts { answers: true, version, size, free, ..DatabaseFacts::default() }
}

/// Whether the service manager starts this service with the machine.
async fn starts() -> Option<bool> {
    // Set by systemd for what it starts.
    std::env::var_os("INVOCATION_ID")?;
    let cgroup = std::fs::read_to_string("/proc/self/cgroup").ok()?;
    let unit = cgroup.trim().rsplit('/').find(|part| part.ends_with(".service"))?.to_owned();
    let enabled = line("systemctl", &["is-enabled", &unit]).await;
    Some(matches!(enabled.as_deref(), Some("enabled" | "static" | "enabled-runtime")))
}
