//! Sockets and timers around the announcer and the finder.

use std::net::SocketAddrV4;
use std::sync::Arc;
use std::time::Duration;

use mostra_core::access::Standing;
use mostra_core::found::OutsideAct;
use mostra_core::sighting::Act;
use mostra_net::{Received, ServedInterface, SsdpSocket, Via};
use mostra_protocol::model::conversation::{BODY, Entry, RecordedDatagram};
use mostra_protocol::server::{Announcer, Datagram, DatagramEvent, Identity, Tuning};
use tokio::sync::{mpsc, oneshot};

use super::finding::Finding;
use super::{Network, Sameness};
use crate::clock::{Clock, ms};
use crate::devices::Devices;

/// What discovery is told.
#[derive(Debug)]
pub enum DiscoveryCommand {
    /// The house is somebody new: leave and come back.
    Identity(Identity),
    /// An interface came up, and its listener answers (SSDP-20).
    Up(ServedInterface),
    /// An interface went away (SSDP-27).
    Down(ServedInterface),
    /// An interface has another address (SSDP-25).
    Moved(ServedInterface, Identity),
    /// Announce beside the usual times (IOP-9).
    Announce,
    /// Search for what is there, beside the usual times (SCP-4).
    Search,
    /// Say byebye on all interfaces and leave them; the sender is dropped when that is done.
    Withdraw(oneshot::Sender<()>),
    /// Say byebye and end.
    Stop,
}

/// How often a socket that could not be opened is tried again (SSDP-2).
const RETRY: Duration = Duration::from_secs(30);

/// The sockets of the interfaces, and the interfaces that have none yet.
struct InterfaceSockets {
    network: Arc<Network>,
    received: mpsc::Sender<Received>,
    open: Vec<SsdpSocket>,
    missing: Vec<ServedInterface>,
}

impl InterfaceSockets {
    /// Opens the sockets of an interface; notes why, where that fails.
    fn try_open(&self, interface: &ServedInterface) -> Option<SsdpSocket> {
        match SsdpSocket::open(interface, self.network.options.multicast_ttl, &self.received) {
            Ok(socket) => {
                let problem = socket.group_error().map(|why| {
                    format!("the house is announced there, but searches are not heard: {why}")
                });
                if problem.is_none() {
                    tracing::info!("announcing on {} ({})", interface.name, interface.address);
                }
                self.network.note_problem(interface, problem);
                Some(socket)
            }
            Err(error) => {
                self.network.note_problem(interface, Some(error.to_string()));
                None
            }
        }
    }

    /// Tries what could not be opened, or not wholly.
    fn retry(&mut self, machine: &mut Announcer, finding: &mut Finding) {
        let (now, port) = (self.network.context.now(), self.network.device_port());
        for interface in std::mem::take(&mut self.missing) {
            match self.try_open(&interface) {
                Some(socket) => {
                    machine.link_up(now, socket.link(port));
                    finding.link_up(socket.link(port));
                    self.open.push(socket);
                }
                None => self.missing.push(interface),
            }
        }
        for at in 0..self.open.len() {
            if self.open[at].group_error().is_none() {
                continue;
            }
            let again = self.try_open(&self.open[at].interface);
            if let Some(again) = again.filter(|socket| socket.group_error().is_none()) {
                machine.link_up(now, again.link(port));
                self.open[at] = again;
            }
        }
    }

    fn close(&mut self, index: u32) {
        self.missing.retain(|interface| interface.index != index);
        self.open.retain(|socket| socket.interface.index != index);
    }

    fn on(&self, index: u32) -> Option<&SsdpSocket> {
        self.open.iter().find(|socket| socket.interface.index == index)
    }

    fn send(&self, datagram: Datagram) {
        let Some(socket) = self.on(datagram.link) else { return };
        if let Err(error) = socket.send(&datagram.data, datagram.to) {
            tracing::debug!("sending on {} to {}: {error}", socket.interface.name, datagram.to);
        }
    }

    fn search(&self, datagram: Datagram) {
        let Some(socket) = self.on(datagram.link) else { return };
        if let Err(error) = socket.search(&datagram.data, datagram.to) {
            tracing::debug!("searching on {}: {error}", socket.interface.name);
        }
    }
}

/// Runs discovery until told to stop; then byebye has been sent.
pub async fn run(
    network: Arc<Network>,
    devices: Arc<Devices>,
    commands: Arc<tokio::sync::Mutex<mpsc::UnboundedReceiver<DiscoveryCommand>>>,
) {
    // Held by this task, and by the next one if it ends.
    let mut commands = commands.lock().await;
    let seed = u64::from_ne_bytes(crate::random::random_bytes());
    let clock = network.context.clock;
    let tuning = Tuning::valid_for(network.options.max_age);
    let mut machine = Announcer::new(network.identity(), tuning, seed, clock.now());
    let (received, mut datagrams) = mpsc::channel::<Received>(1024);
    let missing = network.served().to_vec();
    let mut sockets =
        InterfaceSockets { network: network.clone(), received, open: Vec::new(), missing };
    let mut retry = tokio::time::interval(RETRY);
    let mut finding = Finding::new(network.clone(), devices.clone());
    loop {
        let due = [machine.next_deadline(), finding.next_deadline()].into_iter().flatten().min();
        let due = due.map(|at| clock.instant(at));
        let wait = async {
            match due {
                Some(at) => tokio::time::sleep_until(at).await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            _ = retry.tick() => sockets.retry(&mut machine, &mut finding),
            () = finding.reading_ended() => {}
            () = wait => {}
            datagram = datagrams.recv() => {
                let Some(received) = datagram else { break };
                let Received { interface, from, via, data } = received;
                let Some(socket) = sockets.on(interface) else { continue };
                if socket.is_own_search(from) {
                    if via == Via::Group {
                        network.note_own_search(interface);
                    }
                    continue;
                }
                devices.record_at(*from.ip(), || Entry::Heard(recorded(clock, from, &data)));
                let is_search = data.starts_with(b"M-SEARCH");
                if via != Via::Own && !is_search {
                    finding.handle(interface, from, &data);
                }
                if via != Via::Search {
                    if is_search && !socket.interface.holds(*from.ip()) {
                        network.note_outsider(*from.ip(), OutsideAct::Searched);
                    }
                    // A refused device gets no answers (SEC-22).
                    let in_vain = std::cell::Cell::new(false);
                    let may_know = || {
                        let is_refused =
                            devices.standing_at(*from.ip()) == Some(Standing::Refused);
                        in_vain.set(is_refused);
                        !is_refused
                    };
                    let (now, multicast) = (clock.now(), via == Via::Group);
                    let heard = machine.handle_if(now, interface, from, multicast, &data, may_know);
                    if in_vain.get() {
                        devices.searched_in_vain(*from.ip());
                    } else if let Some(heard) = heard {
                        note(&network, &devices, from, heard);
                    }
                }
            }
            command = commands.recv() => match command {
                Some(DiscoveryCommand::Identity(identity)) => {
                    finding.set_own_udn(&identity.udn);
                    machine.change_identity(clock.now(), identity);
                }
                Some(DiscoveryCommand::Announce) => machine.announce(clock.now()),
                Some(DiscoveryCommand::Search) => finding.search(),
                Some(DiscoveryCommand::Up(interface)) => {
                    sockets.missing.push(interface);
                    retry.reset_immediately();
                }
                Some(DiscoveryCommand::Down(interface)) => {
                    sockets.close(interface.index);
                    machine.link_down(interface.index);
                    finding.link_down(interface.index);
                    network.note_problem(&interface, None);
                }
                Some(DiscoveryCommand::Moved(interface, identity)) => {
                    sockets.close(interface.index);
                    match sockets.try_open(&interface) {
                        Some(socket) => {
                            let link = socket.link(network.device_port());
                            machine.link_moved(clock.now(), link, identity);
                            finding.link_down(interface.index);
                            finding.link_up(link);
                            sockets.open.push(socket);
                        }
                        None => {
                            machine.link_down(interface.index);
                            finding.link_down(interface.index);
                            machine.change_identity(clock.now(), identity);
                            sockets.missing.push(interface);
                        }
                    }
                }
                Some(DiscoveryCommand::Withdraw(_done)) => {
                    leave(&mut machine, &sockets, clock).await;
                    sockets.open.iter().for_each(|socket| finding.link_down(socket.interface.index));
                    sockets.missing.clear();
                    sockets.open.clear();
                    machine = Announcer::new(network.identity(), tuning, seed, clock.now());
                }
                Some(DiscoveryCommand::Stop) | None => break,
            },
        }
        while let Some(datagram) = machine.poll_output(clock.now()) {
            let to = datagram.to;
            devices.record_at(*to.ip(), || Entry::Sent(recorded(clock, to, &datagram.data)));
            sockets.send(datagram);
        }
        while let Some(datagram) = finding.poll() {
            sockets.search(datagram);
        }
    }
    leave(&mut machine, &sockets, clock).await;
}

fn recorded(clock: Clock, peer: SocketAddrV4, data: &[u8]) -> RecordedDatagram {
    let text = String::from_utf8_lossy(&data[..data.len().min(BODY)]).into_owned();
    RecordedDatagram { at_ms: ms(clock.now()), peer, text }
}

/// Says byebye on all interfaces.
async fn leave(machine: &mut Announcer, sockets: &InterfaceSockets, clock: Clock) {
    machine.stop(clock.now());
    while let Some(at) = machine.next_deadline() {
        tokio::time::sleep_until(clock.instant(at)).await;
        while let Some(datagram) = machine.poll_output(clock.now()) {
            sockets.send(datagram);
            sockets.network.note_byebye();
        }
    }
}

/// Notes what a datagram says. Anybody can write an address into one: what it says of its sender,
/// such as what it calls itself, is for nobody but whoever connects from there.
fn note(network: &Arc<Network>, devices: &Devices, from: SocketAddrV4, heard: DatagramEvent) {
    let act = match heard {
        DatagramEvent::Search { target, answered: true, .. } => Act::Searched { target },
        // A search that is not for us says nothing about us; an announcement does.
        DatagramEvent::Search { .. } | DatagramEvent::Announcement { leaving: true } => return,
        DatagramEvent::Announcement { .. } => Act::Announced,
        DatagramEvent::SameServer { source } => {
            return network.note_duplicate(source, Sameness::Udn);
        }
    };
    devices.heard(*from.ip(), act);
}
