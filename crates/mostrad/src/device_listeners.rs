//! The device listeners, one for each interface that is served. They and discovery follow
//! interfaces that come, go and change their address while the service runs, and leave all of them
//! while the house is off.

use std::collections::HashMap;
use std::net::TcpListener;
use std::sync::Arc;
use std::time::Duration;

use actix_web::dev::ServerHandle;
use mostra_app::Clock;
use mostra_app::network::discovery::DiscoveryCommand;
use mostra_app::network::{Network, Subscriptions};
use mostra_app::streams::Streams;
use mostra_core::off::Off;
use mostra_directory::{DirectoryListener, bind};
use mostra_net::{InterfaceChange, InterfaceMonitor, Interfaces, ServedInterface};
use tokio::sync::oneshot;
use tokio::time::Instant;

/// How often the host's interfaces are looked at.
const LOOK: Duration = Duration::from_secs(1);
/// How long what runs on an interface may go on after that went: a cable that is plugged in again, or a
/// switch that restarts, ends nothing that TCP carries on.
const LINGER: Duration = Duration::from_secs(30);

/// What the device listeners work with.
pub(crate) struct ListenerParts {
    /// The house on the network.
    pub(crate) network: Arc<Network>,
    /// What ends when the house is switched off.
    pub(crate) streams: Arc<Streams>,
    /// What ends with it.
    pub(crate) subscriptions: Arc<Subscriptions>,
}

/// The device listeners by interface.
pub(crate) struct DeviceListeners {
    directory: DirectoryListener,
    parts: ListenerParts,
    servers: HashMap<u32, RunningServer>,
    /// Those of interfaces that went, and until when they are kept.
    leaving: HashMap<u32, LeavingServer>,
}

/// A server that runs, and its listening socket, which a restart hands on.
struct RunningServer {
    handle: ServerHandle,
    socket: TcpListener,
}

impl RunningServer {
    async fn stop(self) {
        drop(self.socket);
        self.handle.stop(false).await;
    }
}

/// A server on an interface that went.
struct LeavingServer {
    interface: ServedInterface,
    server: RunningServer,
    until: Instant,
}

/// Whether an interface is up at its address, wanted or not.
fn is_up(interface: &ServedInterface) -> bool {
    let named = Interfaces::Listed(vec![interface.address.to_string()]);
    let present = ServedInterface::present(&named).unwrap_or_default();
    present.iter().any(|one| one.index == interface.index)
}

impl DeviceListeners {
    /// None yet.
    pub(crate) fn new(directory: DirectoryListener, parts: ListenerParts) -> DeviceListeners {
        DeviceListeners { directory, parts, servers: HashMap::new(), leaving: HashMap::new() }
    }

    /// Serves devices on an interface.
    ///
    /// # Errors
    /// Those of the server.
    pub(crate) fn serve(
        &mut self,
        interface: &ServedInterface,
        listener: TcpListener,
    ) -> std::io::Result<()> {
        let socket = listener.try_clone()?;
        let server = self.directory.serve(listener)?;
        let running = RunningServer { handle: server.handle(), socket };
        if let Some(before) = self.servers.insert(interface.index, running) {
            tokio::spawn(before.stop());
        }
        tokio::spawn(server);
        Ok(())
    }

    /// Follows the host's interfaces while the house is on, and leaves them while it is off. Never
    /// ends.
    pub(crate) async fn follow(&mut self) {
        loop {
            let off = self.parts.network.off();
            match off {
                None => {
                    let network = self.parts.network.clone();
                    tokio::select! {
                        () = network.switched(None) => {}
                        () = self.follow_interfaces() => {}
                    }
                }
                Some(off) => self.stay_off(off).await,
            }
        }
    }

    /// Leaves the network until the house is on again: what runs ends at once, players are told
    /// (SSDP-22), and nothing answers any more.
    async fn stay_off(&mut self, off: Off) {
        let network = self.parts.network.clone();
        tracing::info!("the house is off");
        let (served, port) = (network.served().to_vec(), network.device_port());
        network.set_served(Vec::new());
        self.parts.subscriptions.end_all();
        self.parts.streams.end_all();
        let (done, withdrawn) = oneshot::channel();
        network.command(DiscoveryCommand::Withdraw(done));
        let _ = tokio::time::timeout(Duration::from_secs(2), withdrawn).await;
        self.close().await;
        // What was acknowledged in between began no new stream.
        self.parts.streams.end_all();
        // That it is silent is proven from outside.
        if !served.is_empty() {
            let proving = network.clone();
            tokio::spawn(async move { proving.prove_off(served, port).await });
        }
        let mut off = Some(off);
        while let Some(now) = off {
            network.switched(Some(now)).await;
            off = network.off();
            if off.is_some_and(|off| off.is_over(Clock::wall())) {
                if let Err(error) = network.switch(None).await {
                    tracing::warn!("the house cannot be switched on yet: {error}");
                    tokio::time::sleep(LOOK).await;
                }
                off = network.off();
            }
        }
        tracing::info!("the house is on");
        // It comes back with a greater boot id (SSDP-25), or with the old one where the records do
        // not answer.
        let identity = network.identity_anew().await.unwrap_or_else(|_| network.identity());
        network.command(DiscoveryCommand::Identity(identity));
    }

    async fn follow_interfaces(&mut self) {
        let mut ticker = tokio::time::interval(LOOK);
        ticker.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut monitor = InterfaceMonitor::default();
        loop {
            ticker.tick().await;
            self.end_leaving(Instant::now()).await;
            let Ok(now) = ServedInterface::present(&self.parts.network.wanted()) else { continue };
            for change in monitor.look(now, &self.parts.network.served()) {
                match change {
                    InterfaceChange::Down(interface) => self.down(&interface).await,
                    InterfaceChange::Up(interface) => self.up(interface),
                    InterfaceChange::Moved(before, interface) => {
                        self.moved(&before, interface).await;
                    }
                }
            }
        }
    }

    async fn down(&mut self, interface: &ServedInterface) {
        tracing::info!("{} ({}) is gone", interface.name, interface.address);
        self.parts.network.command(DiscoveryCommand::Down(interface.clone()));
        let Some(server) = self.servers.remove(&interface.index) else {
            return self.put(interface.index, None);
        };
        if is_up(interface) {
            // It is there, and a person does not want it served any more.
            server.stop().await;
        } else {
            let (interface, until) = (interface.clone(), Instant::now() + LINGER);
            self.leaving.insert(interface.index, LeavingServer { interface, server, until });
            self.tell_leaving();
        }
        self.put(interface.index, None);
    }

    /// Ends what is kept of interfaces that did not come back in time.
    async fn end_leaving(&mut self, now: Instant) {
        let over = self.leaving.extract_if(|_, leaving| leaving.until <= now);
        let over: Vec<LeavingServer> = over.map(|(_, leaving)| leaving).collect();
        if over.is_empty() {
            return;
        }
        self.tell_leaving();
        for leaving in over {
            leaving.server.stop().await;
        }
    }

    /// Takes back what is kept of an interface that comes back as it was.
    fn take_back(&mut self, interface: &ServedInterface) -> bool {
        let Some(leaving) = self.leaving.remove(&interface.index) else { return false };
        self.tell_leaving();
        if leaving.interface != *interface {
            tokio::spawn(leaving.server.stop());
            return false;
        }
        self.servers.insert(interface.index, leaving.server);
        self.put(interface.index, Some(interface.clone()));
        true
    }

    fn tell_leaving(&self) {
        let interfaces = self.leaving.values().map(|leaving| leaving.interface.clone());
        self.parts.network.set_lately_served(interfaces.collect());
    }

    fn up(&mut self, interface: ServedInterface) {
        if self.take_back(&interface) || self.start(&interface) {
            tracing::info!("{} ({}) is there", interface.name, interface.address);
            self.parts.network.command(DiscoveryCommand::Up(interface));
        }
    }

    async fn moved(&mut self, before: &ServedInterface, interface: ServedInterface) {
        if !self.start(&interface) {
            return;
        }
        let (name, address) = (&interface.name, interface.address);
        tracing::info!("{name} is at {address} now, no longer at {}", before.address);
        match self.parts.network.identity_anew().await {
            Ok(identity) => {
                self.parts.network.command(DiscoveryCommand::Moved(interface, identity))
            }
            // Without the records no greater boot id is to be had: go and come.
            Err(_) => {
                self.parts.network.command(DiscoveryCommand::Down(before.clone()));
                self.parts.network.command(DiscoveryCommand::Up(interface));
            }
        }
    }

    /// Serves an interface and lets devices in by it, before it is announced (SSDP-20); false
    /// when that has to wait for the next look.
    fn start(&mut self, interface: &ServedInterface) -> bool {
        let bound = bind(interface.address, self.parts.network.device_port());
        let bound = bound.map_err(|error| error.to_string());
        let started =
            bound.and_then(|listener| self.serve(interface, listener).map_err(|e| e.to_string()));
        if let Err(why) = started {
            tracing::warn!(
                "{} ({}) cannot be served yet: {why}",
                interface.name,
                interface.address
            );
            return false;
        }
        self.put(interface.index, Some(interface.clone()));
        true
    }

    fn put(&self, index: u32, interface: Option<ServedInterface>) {
        let mut served = self.parts.network.served().to_vec();
        served.retain(|other| other.index != index);
        served.extend(interface);
        self.parts.network.set_served(served);
    }

    /// The listening sockets, to be handed on by a restart.
    pub(crate) fn sockets(&self) -> Vec<TcpListener> {
        let sockets = self.servers.values().map(|server| server.socket.try_clone());
        sockets.filter_map(Result::ok).collect()
    }

    /// Ends all listeners.
    pub(crate) async fn close(&mut self) {
        let leaving = self.leaving.drain().map(|(_, leaving)| leaving.server);
        let servers: Vec<RunningServer> =
            self.servers.drain().map(|(_, server)| server).chain(leaving).collect();
        self.tell_leaving();
        for server in servers {
            server.stop().await;
        }
    }
}
