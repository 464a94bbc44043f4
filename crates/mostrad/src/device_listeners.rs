//! The device listeners, one for each interface that is served. They and discovery follow
//! interfaces that come, go and change their address while the service runs.

use std::collections::HashMap;
use std::net::TcpListener;
use std::sync::Arc;
use std::time::Duration;

use actix_web::dev::ServerHandle;
use mostra_app::network::Network;
use mostra_app::network::discovery::DiscoveryCommand;
use mostra_directory::{DirectoryListener, bind};
use mostra_net::{InterfaceChange, InterfaceMonitor, Interfaces, ServedInterface};

/// How often the host's interfaces are looked at.
const LOOK: Duration = Duration::from_secs(1);

/// The device listeners by interface.
pub(crate) struct DeviceListeners {
    directory: DirectoryListener,
    network: Arc<Network>,
    wanted: Interfaces,
    servers: HashMap<u32, ServerHandle>,
}

impl DeviceListeners {
    /// None yet.
    pub(crate) fn new(
        directory: DirectoryListener,
        network: Arc<Network>,
        wanted: Interfaces,
    ) -> DeviceListeners {
        DeviceListeners { directory, network, wanted, servers: HashMap::new() }
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
        let server = self.directory.serve(listener)?;
        if let Some(before) = self.servers.insert(interface.index, server.handle()) {
            tokio::spawn(before.stop(false));
        }
        tokio::spawn(server);
        Ok(())
    }

    /// Follows the host's interfaces. Never ends.
    pub(crate) async fn follow(&mut self) {
        let mut ticker = tokio::time::interval(LOOK);
        ticker.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut monitor = InterfaceMonitor::default();
        loop {
            ticker.tick().await;
            let Ok(now) = ServedInterface::present(&self.wanted) else { continue };
            for change in monitor.look(now, &self.network.served()) {
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
        self.network.command(DiscoveryCommand::Down(interface.clone()));
        if let Some(server) = self.servers.remove(&interface.index) {
            server.stop(false).await;
        }
        self.put(interface.index, None);
    }

    fn up(&mut self, interface: ServedInterface) {
        if self.start(&interface) {
            tracing::info!("{} ({}) is there", interface.name, interface.address);
            self.network.command(DiscoveryCommand::Up(interface));
        }
    }

    async fn moved(&mut self, before: &ServedInterface, interface: ServedInterface) {
        if !self.start(&interface) {
            return;
        }
        let (name, address) = (&interface.name, interface.address);
        tracing::info!("{name} is at {address} now, no longer at {}", before.address);
        match self.network.identity_anew().await {
            Ok(identity) => self.network.command(DiscoveryCommand::Moved(interface, identity)),
            // Without the records no greater boot id is to be had: go and come.
            Err(_) => {
                self.network.command(DiscoveryCommand::Down(before.clone()));
                self.network.command(DiscoveryCommand::Up(interface));
            }
        }
    }

    /// Serves an interface and lets devices in by it, before it is announced (SSDP-20); false
    /// when that has to wait for the next look.
    fn start(&mut self, interface: &ServedInterface) -> bool {
        let bound = bind(interface.address, self.network.device_port());
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
        let mut served = self.network.served().to_vec();
        served.retain(|other| other.index != index);
        served.extend(interface);
        self.network.set_served(served);
    }

    /// Ends all listeners.
    pub(crate) async fn close(&mut self) {
        for (_, server) in self.servers.drain() {
            server.stop(false).await;
        }
    }
}
