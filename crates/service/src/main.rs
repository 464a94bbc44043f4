//! mostrad: publishes the house's media folders and proves that devices can play them.

mod art;
mod clock;
mod config;
mod console;
mod decisions;
mod desk;
mod device;
mod discovery;
mod events;
mod file_body;
mod host_load;
mod house;
mod interfaces;
mod lanes;
mod links;
mod logging;
mod memory;
mod neighbours;
mod other_servers;
mod random;
mod ranged;
mod reset;
mod scan;
mod sightings;
mod stations;
mod transfers;
mod trouble;
mod wire_reading;

use std::fs::Permissions;
use std::net::Ipv4Addr;
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use clap::Parser;
use mostra_store::{Hold, Records, StoreError};
use tokio::sync::mpsc;

use clock::Clock;
use config::{AccountVerb, Command, Config, Flags};
use console::{ConsoleDoor, Side};
use house::House;
use links::Links;
use sightings::Sightings;
use trouble::Trouble;

fn main() -> ExitCode {
    // The half of this program that makes one picture and ends.
    let mut arguments = std::env::args().skip(1);
    if arguments.next().as_deref() == Some(mostra_media::art::MAKE) {
        let made = mostra_media::art::make_for_parent(&arguments.collect::<Vec<_>>());
        return if made.is_ok() { ExitCode::SUCCESS } else { ExitCode::FAILURE };
    }
    memory::set_up();
    let flags = Flags::parse();
    if flags.openapi {
        println!("{}", console::openapi_document().to_pretty_json().unwrap_or_default());
        return ExitCode::SUCCESS;
    }
    more_descriptors();
    let runtime =
        match tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build() {
            Ok(runtime) => runtime,
            Err(error) => {
                eprintln!("mostrad cannot start: {error}");
                return ExitCode::FAILURE;
            }
        };
    let outcome = runtime.block_on(run(&flags));
    runtime.shutdown_timeout(Duration::from_secs(1));
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(trouble) => {
            eprintln!("{}: {trouble}", trouble.heading());
            ExitCode::FAILURE
        }
    }
}

/// A thousand streams have two descriptors each; what is usually allowed at first is less.
fn more_descriptors() {
    use nix::sys::resource::{Resource, getrlimit, setrlimit};
    if let Ok((_, most)) = getrlimit(Resource::RLIMIT_NOFILE) {
        let _ = setrlimit(Resource::RLIMIT_NOFILE, most, most);
    }
}

async fn run(flags: &Flags) -> Result<(), Trouble> {
    let clock = Clock::start();
    let config = Config::load(flags)?;
    if let Some(Command::Account(AccountVerb::Reset(reset))) = &flags.command {
        return reset::run(&config, reset).await;
    }
    house::name_server(config.edition);
    logging::start(&config);
    prepare_data(&config.data)?;
    let served = interfaces::choose(&config.interfaces)?;
    // Ports first: what is taken is told before anything else is touched.
    let mut listeners = Vec::new();
    let mut device_port = kept_port(&config, served.first().map(|s| s.address));
    for interface in &served {
        let listener = device::bind(interface.address, device_port)?;
        device_port = listener.local_addr().map_or(device_port, |a| a.port());
        listeners.push((interface.clone(), listener));
    }
    if config.device_port == 0 {
        // Without it, it is only another port the next time.
        let _ = std::fs::write(config.data.join(PORT_FILE), device_port.to_string());
    }
    let console_listener = console::bind(config.console_port)?;
    let console_address =
        console_listener.local_addr().map_err(|e| Trouble::new(e.to_string(), ""))?;
    let records = open_records(&config).await?;
    let hold = hold(&records, &config).await?;
    let (sightings, sighted) = Sightings::channel();
    let (to_discovery, commands) = mpsc::unbounded_channel();
    let house = House::open(clock, config, records, served, sightings, to_discovery.clone())
        .await
        .map_err(|e| {
            Trouble::new(format!("the records cannot be read: {e}"), "See PostgreSQL's log.")
        })?;
    let house = Arc::new(house);
    house.device_port.store(device_port, Ordering::Relaxed);

    let broken =
        |e: std::io::Error| Trouble::new(format!("a listener failed: {e}"), "Check the log.");
    let mut links = Links::new(house.clone());
    for (served, listener) in listeners {
        links.serve(served, listener).map_err(broken)?;
    }
    let door = Arc::new(ConsoleDoor::default());
    let console_handle =
        console::serve(house.clone(), door.clone(), console_listener, Side::Loopback, None)
            .map_err(broken)?;
    let mut discovery = tokio::spawn(discovery::run(house.clone(), commands));
    let mut noting = tokio::spawn(sightings::run(house.clone(), sighted));
    let mut telling = tokio::spawn(events::run(house.clone()));
    let mut holding = tokio::spawn(keep_hold(house.clone(), hold));
    tokio::spawn(host_load::run(house.clone()));
    tokio::spawn(load(house.clone()));
    door.restore(&house).await;
    tracing::info!("the console is at http://{console_address}");
    for interface in house.served().iter() {
        tracing::info!("devices reach the house at http://{}:{device_port}", interface.address);
    }

    // A house that goes on without one of these would tell nobody: it is started anew by whoever
    // keeps it.
    let ended = tokio::select! {
        () = stop_asked() => None,
        () = links.keep() => None,
        _ = &mut discovery => Some("discovery"),
        _ = &mut noting => Some("the noting of what devices do"),
        _ = &mut telling => Some("eventing"),
        holder = &mut holding => {
            let why = holder.map_or_else(|error| error.to_string(), |error| error.to_string());
            return Err(Trouble::new(why, "Stop that one, or give this one another database.")
                .while_running());
        }
    };
    if let Some(part) = ended {
        let why = format!("{part} ended by itself, which is a fault of the service's own");
        return Err(Trouble::new(why, "Start it again; the log says more.").while_running());
    }
    tracing::info!("stopping");
    // Byebye goes out while the listener still answers (SSDP-22).
    let _ = to_discovery.send(discovery::Command::Stop);
    let _ = tokio::time::timeout(Duration::from_secs(2), discovery).await;
    house.stop();
    door.close().await;
    let quickly = Duration::from_secs(2);
    let _ = tokio::time::timeout(quickly, links.close()).await;
    let _ = tokio::time::timeout(quickly, console_handle.stop(false)).await;
    let _ = tokio::time::timeout(quickly, noting).await;
    tracing::info!("stopped");
    Ok(())
}

/// Loads the catalogue, then looks for what changed while the service was off.
async fn load(house: Arc<House>) {
    loop {
        match house.load_catalogue().await {
            Ok(()) => break,
            Err(error) => {
                tracing::warn!("the catalogue is not loaded yet: {error}");
                house.set_records_answer(false);
                tokio::time::sleep(Duration::from_secs(2)).await;
            }
        }
    }
    house.set_records_answer(true);
    tracing::info!(
        "{} items in {} folders",
        house.catalogue().item_count(),
        house.catalogue().folders().len()
    );
    if house.config.scan_when_asked {
        return;
    }
    tokio::spawn(scan::watch::keep(house.clone()));
    for folder in house.catalogue().folders() {
        scan::start(&house, folder, scan::Scope::Whole("start"));
    }
}

/// The device listener's port; one that the system chose is kept over restarts, as players
/// remember where they found the house (IOP-27).
fn kept_port(config: &Config, address: Option<Ipv4Addr>) -> u16 {
    if config.device_port > 0 {
        return config.device_port;
    }
    let kept = || std::fs::read_to_string(config.data.join(PORT_FILE)).ok()?.trim().parse().ok();
    // Somebody else may have it by now.
    let free = |port: &u16| address.is_some_and(|address| device::bind(address, *port).is_ok());
    kept().filter(free).unwrap_or(0)
}

/// Where a port that the system chose is kept.
const PORT_FILE: &str = "device-port";

fn prepare_data(data: &Path) -> Result<(), Trouble> {
    let probe = data.join(".writable");
    std::fs::create_dir_all(data).and_then(|()| std::fs::write(&probe, b"")).map_err(|e| {
        Trouble::new(
            format!("the data directory {} is not writable: {e}", data.display()),
            "Give it to the service's user (chown), or choose another with --data.",
        )
    })?;
    let _ = std::fs::remove_file(probe);
    // What lies there is for its owner only: the certificate's key, the database's password, and
    // pictures of what not everybody may see.
    for directory in [data.to_owned(), data.join("art")] {
        use std::os::unix::fs::PermissionsExt as _;
        let closed = std::fs::create_dir_all(&directory)
            .and_then(|()| std::fs::set_permissions(&directory, Permissions::from_mode(0o700)));
        closed.map_err(|error| {
            Trouble::new(
                format!("{} cannot be closed to other users: {error}", directory.display()),
                "Give it to the service's user (chown), or choose another with --data.",
            )
        })?;
    }
    Ok(())
}

async fn open_records(config: &Config) -> Result<Records, Trouble> {
    let remedy = format!(
        "Start Debian's server with `scripts/postgres start {}`, or name another with MOSTRA_DATABASE_URL.",
        config.data.display()
    );
    if config.database_url.is_empty() {
        return Err(Trouble::new("no PostgreSQL is named", &remedy));
    }
    Records::open(&config.database_url, Duration::from_secs(30)).await.map_err(
        |error| match error {
            StoreError::Away(_) => Trouble::new(format!("{error}"), &remedy),
            other => Trouble::new(
                format!("the records cannot be used: {other}"),
                "See PostgreSQL's log.",
            ),
        },
    )
}

/// Takes the database for this service alone.
async fn hold(records: &Records, config: &Config) -> Result<Hold, Trouble> {
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
                return Err(Trouble::new(error.to_string(), &remedy));
            }
        }
    }
}

/// How long a database that another service holds is waited for.
const HELD: Duration = Duration::from_secs(3);

/// Holds the database, and notes the time in it; ends when another service has taken it.
async fn keep_hold(house: Arc<House>, mut hold: Hold) -> StoreError {
    let mut look = tokio::time::interval(Duration::from_secs(5));
    look.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut looks = 0_u64;
    loop {
        look.tick().await;
        if let Err(error @ StoreError::Held(_)) = hold.keep().await {
            return error;
        }
        // Where a password was reset on the host, sessions ended that are still known here.
        house.keep_sessions().await;
        if looks.is_multiple_of(12) {
            // While PostgreSQL is away it is not noted, and nothing else is either.
            let _ = house.records.note_time(house.session_time()).await;
        }
        looks += 1;
    }
}

async fn stop_asked() {
    use tokio::signal::unix::{SignalKind, signal};
    let (Ok(mut terminate), Ok(mut hang_up)) =
        (signal(SignalKind::terminate()), signal(SignalKind::hangup()))
    else {
        let _ = tokio::signal::ctrl_c().await;
        return;
    };
    tokio::select! {
        _ = tokio::signal::ctrl_c() => {}
        _ = terminate.recv() => {}
        _ = hang_up.recv() => {}
    }
}
