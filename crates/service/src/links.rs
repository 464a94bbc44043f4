//! Interfaces that come, go and change their address while the service runs: the device
//! listener and discovery follow.

use std::collections::HashMap;
use std::net::TcpListener;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use actix_web::dev::ServerHandle;

use crate::device;
use crate::discovery::Command;
use crate::house::House;
use crate::interfaces::{Served, present};

/// How often the host's interfaces are looked at. What is found must be there at the next look
/// as well before anything is done about it (SSDP-28): an interface that comes up takes a moment
/// to settle.
const LOOK: Duration = Duration::from_secs(1);

/// The device listeners, one for each interface that is served.
pub struct Links {
    house: Arc<House>,
    servers: HashMap<u32, ServerHandle>,
}

impl Links {
    /// Listeners for a house; none yet.
    pub fn new(house: Arc<House>) -> Links {
        Links { house, servers: HashMap::new() }
    }

    /// Serves devices on an interface.
    ///
    /// # Errors
    /// Those of the server.
    pub fn serve(&mut self, served: Served, listener: TcpListener) -> std::io::Result<()> {
        let server = device::serve(self.house.clone(), listener)?;
        if let Some(before) = self.servers.insert(served.index, server.handle()) {
            tokio::spawn(before.stop(false));
        }
        tokio::spawn(server);
        Ok(())
    }

    /// Follows the host's interfaces. Never ends.
    pub async fn keep(&mut self) {
        let mut ticker = tokio::time::interval(LOOK);
        ticker.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut before = self.house.served().to_vec();
        loop {
            ticker.tick().await;
            let Ok(now) = present(&self.house.config.interfaces) else { continue };
            if now == before && now != *self.house.served() {
                self.follow(&now).await;
            }
            before = now;
        }
    }

    /// Does what it takes to serve these interfaces instead of the ones before. What cannot be
    /// done now is tried again at the next look.
    async fn follow(&mut self, wanted: &[Served]) {
        let current = self.house.served();
        let mut served: Vec<Served> = Vec::new();
        for gone in current.iter().filter(|c| wanted.iter().all(|w| w.index != c.index)) {
            tracing::info!("{} ({}) is gone", gone.name, gone.address);
            self.house.tell_discovery(Command::Down(gone.clone()));
            if let Some(server) = self.servers.remove(&gone.index) {
                server.stop(false).await;
            }
        }
        for link in wanted {
            let before = current.iter().find(|c| c.index == link.index);
            if before == Some(link) {
                served.push(link.clone());
                continue;
            }
            let port = self.house.device_port.load(Ordering::Relaxed);
            let bound = device::bind(link.address, port).map_err(|e| e.to_string());
            let started =
                bound.and_then(|l| self.serve(link.clone(), l).map_err(|e| e.to_string()));
            if let Err(why) = started {
                tracing::warn!("{} ({}) cannot be served yet: {why}", link.name, link.address);
                served.extend(before.cloned());
                continue;
            }
            // Let in before it is announced (SSDP-20).
            let mut all = served.clone();
            all.push(link.clone());
            let others = current.iter().filter(|c| all.iter().all(|s| s.index != c.index));
            let all: Vec<Served> = all.iter().chain(others).cloned().collect();
            self.house.set_served(all);
            match before {
                None => {
                    tracing::info!("{} ({}) is there", link.name, link.address);
                    self.house.tell_discovery(Command::Up(link.clone()));
                }
                Some(before) => {
                    tracing::info!(
                        "{} is at {} now, no longer at {}",
                        link.name,
                        link.address,
                        before.address
                    );
                    match self.house.identity_anew().await {
                        Ok(identity) => {
                            self.house.tell_discovery(Command::Moved(link.clone(), identity));
                        }
                        // Without the records no greater boot id is to be had: go and come.
                        Err(_) => {
                            self.house.tell_discovery(Command::Down(before.clone()));
                            self.house.tell_discovery(Command::Up(link.clone()));
                        }
                    }
                }
            }
            served.push(link.clone());
        }
        self.house.set_served(served);
    }

    /// Ends all listeners.
    pub async fn close(&mut self) {
        for (_, server) in self.servers.drain() {
            server.stop(false).await;
        }
    }
}
