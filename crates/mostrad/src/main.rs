//! mostrad: publishes the house's media folders and proves that devices can play them.

mod config;
mod device_listeners;
mod lasting_tasks;
mod logging;
mod records;
mod reset;
mod saved;
mod service_manager;
mod startup_error;

use std::fs::Permissions;
use std::net::{Ipv4Addr, TcpListener};
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;
use std::time::Duration;

use clap::Parser;
use command_fds::{CommandFdExt as _, FdMapping};
use mostra_app::accounts::Accounts;
use mostra_app::compute_pool::ComputePool;
use mostra_app::devices::{Devices, DevicesParts, arrivals, sightings};
use mostra_app::library::{Library, LibraryOptions, SharedCatalogue, first_catalogue};
use mostra_app::network::{
    Network, NetworkOptions, Subscriptions, discovery, event_delivery, watching,
};
use mostra_app::preflight::{self, PreflightChecks, PreflightParts};
use mostra_app::streams::Streams;
use mostra_app::walkthroughs::{WalkthroughParts, Walkthroughs};
use mostra_app::{Clock, Context, host_load, memory, saved_records};
use mostra_console_api::{ConsoleListener, HouseAccess};
use mostra_core::not_now::NotNow;
use mostra_directory::DirectoryListener;
use mostra_net::{InterfaceError, Neighbours, ServedInterface};
use mostra_store::StoreError;
use tokio::signal::unix::{Signal, SignalKind, signal};
use tokio::sync::mpsc;

use config::{AccountVerb, Command, Config, Flags, LiveConfig, ValueSource};
use device_listeners::{DeviceListeners, ListenerParts};
use lasting_tasks::{Ends, LastingTasks};
use startup_error::StartupError;

/// Small pieces by the million, kept and given back: the system's own keeps four times as much
/// after the catalogue is loaded.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    // The half of this program that makes one picture and ends.
    let mut arguments = std::env::args().skip(1);
    if arguments.next().as_deref() == Some(mostra_media::art::MAKE) {
        let made = mostra_media::art::make_for_parent(&arguments.collect::<Vec<_>>());
        return if made.is_ok() { ExitCode::SUCCESS } else { ExitCode::FAILURE };
    }
    if let Some(ended) = mostra_manual::asked::<Flags>("8") {
        return ended;
    }
    memory::set_up();
    let flags = Flags::parse();
    if flags.openapi {
        println!("{}", mostra_console_api::openapi_document().to_pretty_json().unwrap_or_default());
        return ExitCode::SUCCESS;
    }
    mostra_net::take_given();
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
        Ok(EndedFor::Stopped) => ExitCode::SUCCESS,
        Ok(EndedFor::ToRestart(sockets)) => start_again(sockets),
        Err(error) => {
            eprintln!("{}: {error}", error.heading());
            ExitCode::FAILURE
        }
    }
}

/// How the service ended.
enum EndedFor {
    /// It was asked to.
    Stopped,
    /// It is to start again, with these listening sockets.
    ToRestart(Vec<TcpListener>),
}

/// Becomes the same program anew, under the same process id: whoever keeps it goes on doing so. The
/// listening sockets stay open, so that nobody else on the host takes their ports meanwhile.
fn start_again(sockets: Vec<TcpListener>) -> ExitCode {
    use std::os::unix::process::CommandExt as _;
    // After an upgrade the program's file is another one; the path is the same.
    let program = std::env::current_exe().unwrap_or_else(|_| "mostrad".into());
    let program = program.to_string_lossy().trim_end_matches(" (deleted)").to_owned();
    let mut command = std::process::Command::new(program);
    command.args(std::env::args_os().skip(1));
    // As systemd hands them over: from the fourth descriptor on.
    command.env("LISTEN_FDS", sockets.len().to_string());
    command.env("LISTEN_PID", std::process::id().to_string());
    let mapped = (3..)
        .zip(sockets)
        .map(|(child_fd, socket)| FdMapping { parent_fd: socket.into(), child_fd });
    if let Err(error) = command.fd_mappings(mapped.collect()) {
        eprintln!("the listening sockets are not handed on: {error}");
    }
    let error = command.exec();
    eprintln!("mostrad cannot start again: {error}");
    ExitCode::FAILURE
}

/// A thousand streams have two descriptors each; what is usually allowed at first is less.
fn more_descriptors() {
    use nix::sys::resource::{Resource, getrlimit, setrlimit};
    if let Ok((_, most)) = getrlimit(Resource::RLIMIT_NOFILE) {
        let _ = setrlimit(Resource::RLIMIT_NOFILE, most, most);
    }
}

async fn run(flags: &Flags) -> Result<EndedFor, StartupError> {
    let clock = Clock::start();
    let config = Config::load(flags)?;
    if let Some(Command::Account(verb)) = &flags.command {
        let done = match verb {
            AccountVerb::Reset(reset) => reset::run(&config, reset).await,
            AccountVerb::First => reset::first(&config).await,
        };
        return done.map(|()| EndedFor::Stopped);
    }
    match &flags.command {
        Some(Command::Save) => return saved::save(&config).await.map(|()| EndedFor::Stopped),
        Some(Command::Restore { file }) => {
            return saved::restore(&config, file).await.map(|()| EndedFor::Stopped);
        }
        _ => {}
    }
    mostra_app::network::name_server(config.edition);
    logging::start(&config);
    for problem in &config.problems {
        tracing::error!("{}", problem.text);
    }
    prepare_data(&config.data)?;
    let served = chosen_interfaces(&config)?;
    if served.is_empty() {
        tracing::warn!(
            "no interface has an address of a home network yet; the house is served on those that get one"
        );
    }
    // Ports first: what is taken is told before anything else is touched.
    let mut listeners = Vec::new();
    let mut device_port = kept_port(&config, served.first().map(|s| s.address));
    for interface in &served {
        let listener = mostra_directory::bind(interface.address, device_port)?;
        device_port = listener.local_addr().map_or(device_port, |a| a.port());
        listeners.push((interface.clone(), listener));
    }
    if config.device_port == 0 && device_port > 0 {
        // Without it, it is only another port the next time.
        let _ = std::fs::write(config.data.join(PORT_FILE), device_port.to_string());
    }
    let console_listener = mostra_console_api::bind(config.console_port)?;
    mostra_net::drop_given();
    let kept_console = console_listener.try_clone();
    let host_socket = mostra_console_api::bind_socket(&config.socket);
    let console_address =
        console_listener.local_addr().map_err(|e| StartupError::new(e.to_string(), ""))?;
    let mut records = records::open(&config).await?;
    let hold = records::hold(&records, &config).await?;
    let restoring = saved_records::restore_pending(&config.data, &config.database_url);
    if service_manager::waits_for("restoring the records", restoring).await {
        // What came may have the tables of an earlier version.
        records = records::open(&config).await?;
    }
    let context = Context::new(clock, records, &config.data);
    context.save_what_was_left().await;
    let (commands, for_discovery) = mpsc::unbounded_channel();
    let house =
        Owners::open(&context, &config, served, device_port, commands).await.map_err(|e| {
            StartupError::new(format!("the records cannot be read: {e}"), "See PostgreSQL's log.")
        })?;

    let watched = service_manager::StatusParts {
        context: context.clone(),
        network: house.network.clone(),
        devices: house.devices.clone(),
        streams: house.streams.clone(),
    };
    let broken =
        |e: std::io::Error| StartupError::new(format!("a listener failed: {e}"), "Check the log.");
    let directory = DirectoryListener::new(house.directory_parts(&context), config.connections);
    let mut device_listeners = DeviceListeners::new(directory, house.listener_parts());
    for (interface, listener) in listeners {
        // A house that is off only made sure that it can be reached later.
        if house.network.off().is_none() {
            device_listeners.serve(&interface, listener).map_err(broken)?;
        }
    }
    // Whoever sees it answer may stop it.
    let mut stop = StopSignals::listen()
        .map_err(|e| StartupError::new(format!("signals cannot be listened for: {e}"), ""))?;
    let live = Arc::new(LiveConfig::new(flags, &config, house.network.clone()));
    let console = house.console_parts(&context, &config, live.clone());
    let console_handle =
        mostra_console_api::serve(&console, ConsoleListener::Loopback(console_listener))
            .map_err(broken)?;
    let socket_handle = match host_socket {
        Ok(listener) => {
            tracing::info!("whoever may, reaches the house at {}", config.socket.display());
            let listener = ConsoleListener::Host(listener);
            Some(mostra_console_api::serve(&console, listener).map_err(broken)?)
        }
        // The console in the browser is there all the same.
        Err(error) => {
            tracing::error!("{error}");
            None
        }
    };
    let (network, devices) = (house.network.clone(), house.devices.clone());
    let tasks = LastingTasks::new(context.clone());
    let for_discovery = Arc::new(tokio::sync::Mutex::new(for_discovery));
    let announcing = {
        let devices = devices.clone();
        tasks.keep("discovery", Ends::WithService, move || {
            discovery::run(network.clone(), devices.clone(), for_discovery.clone())
        })
    };
    let register = devices.clone();
    tokio::task::spawn_blocking(move || register.load_makers());
    {
        let (devices, network) = (devices.clone(), house.network.clone());
        tasks.keep("telling of arrivals", Ends::WithService, move || {
            arrivals::run(devices.clone(), network.clone())
        });
    }
    let noting = {
        let devices = devices.clone();
        tasks.keep("the noting of what devices do", Ends::WithService, move || {
            sightings::run(devices.clone())
        })
    };
    {
        let (context, subscriptions) = (context.clone(), house.subscriptions.clone());
        tasks.keep("eventing", Ends::WithService, move || {
            event_delivery::run(context.clone(), subscriptions.clone(), devices.clone())
        });
    }
    let watching = {
        let network = house.network.clone();
        tasks.keep("watching of renderers", Ends::WithService, move || {
            watching::run(network.clone())
        })
    };
    let mut holding =
        tokio::spawn(records::keep_hold(context.clone(), house.accounts.clone(), hold));
    {
        let (context, load) = (context.clone(), console.host_load.clone());
        tasks.keep("measuring of the host's load", Ends::WithService, move || {
            host_load::run(context.clone(), load.clone())
        });
    }
    {
        let (context, library) = (context.clone(), house.library.clone());
        let folders = tasks.clone();
        tasks.keep("loading of the catalogue", Ends::Done, move || {
            load(context.clone(), library.clone(), folders.clone())
        });
    }
    if config.pictures_ahead {
        let library = house.library.clone();
        tasks.keep("making of pictures ahead", Ends::WithService, move || {
            mostra_app::library::pictures_ahead::run(library.clone())
        });
    }
    house.network.console.set_loopback(console_address.port());
    console.saved.tidy();
    if config.saves_nightly {
        let hour = || u32::try_from(jiff::Zoned::now().hour()).unwrap_or_default();
        let saved = console.saved.clone();
        tasks.keep("nightly saving", Ends::WithService, move || saved.clone().keep(hour));
    }
    {
        let checks = console.preflight.clone();
        tasks.keep("the preflight", Ends::WithService, move || preflight::run(checks.clone()));
    }
    console.access.restore(&console).await;
    let follow = console.clone();
    tasks.keep("opening of the console to the house", Ends::WithService, move || {
        let follow = follow.clone();
        async move { follow.access.follow(&follow).await }
    });
    tracing::info!("the console is at http://{console_address}");
    for interface in house.network.served().iter() {
        tracing::info!("devices reach the house at http://{}:{device_port}", interface.address);
    }

    service_manager::ready();
    tokio::spawn(watched.run());

    let mut to_restart = false;
    tokio::select! {
        () = stop.asked() => {}
        () = live.restart_asked() => to_restart = true,
        () = tasks.restart_wanted() => to_restart = true,
        () = device_listeners.follow() => {}
        holder = &mut holding => {
            let why = holder.map_or_else(|error| error.to_string(), |error| error.to_string());
            return Err(StartupError::new(why, "Stop that one, or give this one another database.")
                .while_running());
        }
    }
    tasks.leave();
    if to_restart {
        tracing::info!("starting again");
    } else {
        tracing::info!("stopping");
        service_manager::stopping();
    }
    // Byebye goes out while the listener still answers (SSDP-22).
    house.network.command(discovery::DiscoveryCommand::Stop);
    let _ = tokio::time::timeout(Duration::from_secs(2), announcing).await;
    context.stop();
    let mut sockets = device_listeners.sockets();
    sockets.extend(kept_console);
    console.access.close(&console).await;
    let quickly = Duration::from_secs(2);
    let _ = tokio::time::timeout(quickly, device_listeners.close()).await;
    let _ = tokio::time::timeout(quickly, console_handle.stop(false)).await;
    if let Some(handle) = socket_handle {
        let _ = tokio::time::timeout(quickly, handle.stop(false)).await;
    }
    // It may have to wait for PostgreSQL before it writes a file instead.
    let _ = tokio::time::timeout(3 * quickly, noting).await;
    let _ = tokio::time::timeout(quickly, watching).await;
    tracing::info!("stopped");
    Ok(if to_restart { EndedFor::ToRestart(sockets) } else { EndedFor::Stopped })
}

/// The interfaces to begin with. One that a file names may come later; one that this start names
/// must be there.
fn chosen_interfaces(config: &Config) -> Result<Vec<ServedInterface>, StartupError> {
    let given = matches!(config.source("interfaces"), ValueSource::Flag | ValueSource::Environment);
    match ServedInterface::choose(&config.interfaces) {
        Err(error @ InterfaceError::Missing { .. }) if !given => {
            tracing::warn!("{error}; it is served once it comes. {}", error.remedy());
            ServedInterface::present(&config.interfaces).map_err(|e| InterfaceError::from(e).into())
        }
        other => Ok(other?),
    }
}

/// The owners of all state, from which the listeners are given what they use.
struct Owners {
    accounts: Arc<Accounts>,
    devices: Arc<Devices>,
    library: Arc<Library>,
    network: Arc<Network>,
    streams: Arc<Streams>,
    subscriptions: Arc<Subscriptions>,
    pool: Arc<ComputePool>,
}

impl Owners {
    async fn open(
        context: &Context,
        config: &Config,
        served: Vec<ServedInterface>,
        device_port: u16,
        commands: mpsc::UnboundedSender<discovery::DiscoveryCommand>,
    ) -> Result<Owners, StoreError> {
        let options = NetworkOptions {
            interfaces: config.interfaces.clone(),
            max_age: config.max_age,
            multicast_ttl: config.multicast_ttl,
            also_from: config.also_from.clone(),
            registrar: config.registrar,
            edition: config.edition,
            model_name: config.model.0.clone(),
            model_number: config.model.1.clone(),
        };
        let network =
            Network::open(context.clone(), options, served, device_port, commands).await?;
        let (catalogue, last_id) = first_catalogue(context).await?;
        let catalogue = Arc::new(SharedCatalogue::new(catalogue));
        let subscriptions = Arc::new(Subscriptions::default());
        let streams = Arc::new(Streams::new(context.clone()));
        let parts = DevicesParts {
            context: context.clone(),
            catalogue: catalogue.clone(),
            subscriptions: subscriptions.clone(),
            streams: streams.clone(),
            neighbours: neighbours(),
            rules: config.rules.clone(),
            recordings: config.data.join("recordings"),
        };
        let devices = Arc::new(Devices::open(parts).await?);
        let options = LibraryOptions {
            data: config.data.clone(),
            poll_seconds: config.poll_seconds,
            scan_when_asked: config.scan_when_asked,
            test_pieces: config.test_pieces,
        };
        let library =
            Library::open(context.clone(), options, devices.clone(), catalogue, last_id).await?;
        Ok(Owners {
            accounts: Arc::new(Accounts::open(context.clone(), &config.data).await?),
            devices,
            library: Arc::new(library),
            network: Arc::new(network),
            streams,
            subscriptions,
            pool: Arc::default(),
        })
    }

    fn listener_parts(&self) -> ListenerParts {
        ListenerParts {
            network: self.network.clone(),
            streams: self.streams.clone(),
            subscriptions: self.subscriptions.clone(),
        }
    }

    fn directory_parts(&self, context: &Context) -> mostra_directory::DirectoryParts {
        mostra_directory::DirectoryParts {
            clock: context.clock,
            devices: self.devices.clone(),
            library: self.library.clone(),
            network: self.network.clone(),
            streams: self.streams.clone(),
            subscriptions: self.subscriptions.clone(),
            pool: self.pool.clone(),
        }
    }

    fn console_parts(
        &self,
        context: &Context,
        config: &Config,
        live: Arc<LiveConfig>,
    ) -> mostra_console_api::ConsoleParts {
        let preflight = Arc::new(PreflightChecks::new(PreflightParts {
            context: context.clone(),
            network: self.network.clone(),
            devices: self.devices.clone(),
            library: self.library.clone(),
        }));
        mostra_console_api::ConsoleParts {
            context: context.clone(),
            accounts: self.accounts.clone(),
            devices: self.devices.clone(),
            library: self.library.clone(),
            network: self.network.clone(),
            streams: self.streams.clone(),
            host_load: Arc::default(),
            pool: self.pool.clone(),
            config: live,
            saved: Arc::new(saved_records::RecordFiles::new(
                context.clone(),
                &config.data,
                config.databases(),
            )),
            access: Arc::new(HouseAccess::new(config.house_port)),
            walkthroughs: Arc::new(Walkthroughs::new(WalkthroughParts {
                context: context.clone(),
                devices: self.devices.clone(),
                library: self.library.clone(),
                network: self.network.clone(),
                subscriptions: self.subscriptions.clone(),
                preflight: preflight.clone(),
            })),
            preflight,
        }
    }
}

/// What the kernel knows of neighbours. Without it devices are told apart by their addresses.
fn neighbours() -> Option<Neighbours> {
    let listening = Neighbours::listen();
    listening.inspect_err(|error| tracing::warn!("neighbours are not known: {error}")).ok()
}

/// Loads the catalogue, then looks for what changed while the service was off.
async fn load(context: Context, library: Arc<Library>, tasks: LastingTasks) {
    loop {
        match library.load().await {
            Ok(()) => break,
            Err(error) => {
                tracing::warn!("the catalogue is not loaded yet: {error}");
                context.set_records_answer(error.not_now() != Some(NotNow::NoAnswer));
                tokio::time::sleep(Duration::from_secs(2)).await;
            }
        }
    }
    context.set_records_answer(true);
    let catalogue = library.catalogue();
    tracing::info!("{} items in {} folders", catalogue.item_count(), catalogue.folders().len());
    if library.scans_when_asked() {
        return;
    }
    let watched = library.clone();
    tasks.keep("watching of folders", Ends::WithService, move || {
        mostra_app::library::scan::watch::keep(watched.clone())
    });
    library.rescan_all("start");
}

/// The device listener's port; one that the system chose is kept over restarts, as players
/// remember where they found the house (IOP-27).
fn kept_port(config: &Config, address: Option<Ipv4Addr>) -> u16 {
    if config.device_port > 0 {
        return config.device_port;
    }
    let kept = || std::fs::read_to_string(config.data.join(PORT_FILE)).ok()?.trim().parse().ok();
    // Somebody else may have it by now.
    let free =
        |port: &u16| address.is_none_or(|address| mostra_directory::bind(address, *port).is_ok());
    kept().filter(free).unwrap_or(0)
}

/// Where a port that the system chose is kept.
const PORT_FILE: &str = "device-port";

fn prepare_data(data: &Path) -> Result<(), StartupError> {
    let probe = data.join(".writable");
    std::fs::create_dir_all(data).and_then(|()| std::fs::write(&probe, b"")).map_err(|e| {
        StartupError::new(
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
            StartupError::new(
                format!("{} cannot be closed to other users: {error}", directory.display()),
                "Give it to the service's user (chown), or choose another with --data.",
            )
        })?;
    }
    Ok(())
}

/// The signals that ask the service to stop. From here on they no longer end it at once.
struct StopSignals([Signal; 3]);

impl StopSignals {
    fn listen() -> std::io::Result<StopSignals> {
        let kinds = [SignalKind::interrupt(), SignalKind::terminate(), SignalKind::hangup()];
        let [a, b, c] = kinds.map(signal);
        Ok(StopSignals([a?, b?, c?]))
    }

    async fn asked(&mut self) {
        let [interrupt, terminate, hang_up] = &mut self.0;
        tokio::select! {
            _ = interrupt.recv() => {}
            _ = terminate.recv() => {}
            _ = hang_up.recv() => {}
        }
    }
}
