//! Sockets and timers around the announcer.

use std::io;
use std::net::{Ipv4Addr, SocketAddr, SocketAddrV4};
use std::sync::{Arc, PoisonError};
use std::time::Duration;

use mostra_core::access::Standing;
use mostra_protocol::ssdp::{Announcer, Datagram, Heard, Identity, Link, Tuning};
use mostra_protocol::wire::{SSDP_GROUP, SSDP_PORT};
use socket2::{Domain, Protocol, Socket, Type};
use tokio::net::UdpSocket;
use tokio::sync::mpsc;
use tokio::task::AbortHandle;

use crate::house::{House, Topic};
use crate::interfaces::Served;
use crate::other_servers;

/// What the house tells discovery.
#[derive(Debug)]
pub enum Command {
    /// The house is somebody new: leave and come back.
    Identity(Identity),
    /// An interface came up, and its listener answers (SSDP-20).
    Up(Served),
    /// An interface went away (SSDP-27).
    Down(Served),
    /// An interface has another address (SSDP-25).
    Moved(Served, Identity),
    /// Announce beside the usual times (IOP-9).
    Announce,
    /// Say byebye and end.
    Stop,
}

/// The sockets of one interface: one for what comes by the group, one for what comes to our
/// address and for all that we send.
struct Ears {
    served: Served,
    /// None where the port belongs to somebody else: then the house only announces (SSDP-6).
    group: Option<UdpSocket>,
    own: UdpSocket,
    /// Where unicast searches are taken then.
    search_port: Option<u16>,
}

impl Ears {
    /// The link, with the device listener's port.
    fn link(&self, port: u16) -> Link {
        Link { search_port: self.search_port, ..self.served.link(port) }
    }
}

/// An interface that is listened to, until this is dropped.
struct Listening {
    ears: Arc<Ears>,
    tasks: [AbortHandle; 2],
}

impl Listening {
    /// Opens the sockets of an interface; notes why, where that fails.
    fn open(house: &House, served: &Served, heard: &mpsc::Sender<Arrival>) -> Option<Listening> {
        match open(served, house.config.multicast_ttl) {
            Ok((group, own, search_port)) => {
                let deaf = group.as_ref().err().map(|why| {
                    format!("the house is announced there, but searches are not heard: {why}")
                });
                if deaf.is_none() {
                    tracing::info!("announcing on {} ({})", served.name, served.address);
                }
                note_problem(house, served, deaf);
                let group = group.ok();
                let ears = Arc::new(Ears { served: served.clone(), group, own, search_port });
                let tasks = [true, false].map(|multicast| {
                    tokio::spawn(listen(ears.clone(), multicast, heard.clone())).abort_handle()
                });
                Some(Listening { ears, tasks })
            }
            Err(error) => {
                note_problem(house, served, Some(error.to_string()));
                None
            }
        }
    }
}

impl Drop for Listening {
    fn drop(&mut self) {
        self.tasks.iter().for_each(AbortHandle::abort);
    }
}

/// Ports on which unicast searches may be taken instead (SSDP-6).
const SEARCH_PORTS: std::ops::RangeInclusive<u16> = 49_152..=65_535;

/// How often a socket that could not be opened is tried again (SSDP-2).
const RETRY: Duration = Duration::from_secs(30);

/// Runs discovery until told to stop; then byebye has been sent.
pub async fn run(house: Arc<House>, mut commands: mpsc::UnboundedReceiver<Command>) {
    let seed = u64::from_ne_bytes(crate::random::random_bytes());
    let clock = house.clock;
    let tuning = Tuning::valid_for(house.config.max_age);
    let mut machine = Announcer::new(house.identity(), tuning, seed, clock.now());
    let (heard_in, mut heard) = mpsc::channel::<Arrival>(1024);
    let port = house.device_port.load(std::sync::atomic::Ordering::Relaxed);
    let mut ears: Vec<Listening> = Vec::new();
    let mut missing: Vec<Served> = house.served().to_vec();
    let mut retry = tokio::time::interval(RETRY);
    loop {
        let due = machine.next_deadline().map(|at| clock.instant(at));
        let wait = async {
            match due {
                Some(at) => tokio::time::sleep_until(at).await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            _ = retry.tick() => {
                missing.retain(|served| match Listening::open(&house, served, &heard_in) {
                    Some(listening) => {
                        machine.link_up(clock.now(), listening.ears.link(port));
                        ears.push(listening);
                        false
                    }
                    None => true,
                });
                for deaf in ears.iter_mut().filter(|e| e.ears.group.is_none()) {
                    let again = Listening::open(&house, &deaf.ears.served, &heard_in);
                    if let Some(again) = again.filter(|a| a.ears.group.is_some()) {
                        machine.link_up(clock.now(), again.ears.link(port));
                        *deaf = again;
                    }
                }
            }
            () = wait => {}
            arrival = heard.recv() => {
                let Some(arrival) = arrival else { break };
                let Arrival { link, from, multicast, data } = arrival;
                // A refused device gets no answers (SEC-22).
                if is_refused(&house, *from.ip()) {
                    continue;
                }
                if let Some(told) = machine.handle(clock.now(), link, from, multicast, &data) {
                    sighted(&house, from, told);
                }
            }
            command = commands.recv() => match command {
                Some(Command::Identity(identity)) => machine.change_identity(clock.now(), identity),
                Some(Command::Announce) => machine.announce(clock.now()),
                Some(Command::Up(served)) => {
                    missing.push(served);
                    retry.reset_immediately();
                }
                Some(Command::Down(served)) => {
                    missing.retain(|s| s.index != served.index);
                    ears.retain(|e| e.ears.served.index != served.index);
                    machine.link_down(served.index);
                    note_problem(&house, &served, None);
                }
                Some(Command::Moved(served, identity)) => {
                    missing.retain(|s| s.index != served.index);
                    ears.retain(|e| e.ears.served.index != served.index);
                    match Listening::open(&house, &served, &heard_in) {
                        Some(listening) => {
                            machine.link_moved(clock.now(), listening.ears.link(port), identity);
                            ears.push(listening);
                        }
                        None => {
                            machine.link_down(served.index);
                            machine.change_identity(clock.now(), identity);
                            missing.push(served);
                        }
                    }
                }
                Some(Command::Stop) | None => break,
            },
        }
        while let Some(datagram) = machine.poll_output(clock.now()) {
            send(&ears, datagram).await;
        }
    }
    machine.stop(clock.now());
    while let Some(at) = machine.next_deadline() {
        tokio::time::sleep_until(clock.instant(at)).await;
        while let Some(datagram) = machine.poll_output(clock.now()) {
            send(&ears, datagram).await;
        }
    }
}

struct Arrival {
    link: u32,
    from: SocketAddrV4,
    multicast: bool,
    data: Vec<u8>,
}

fn is_refused(house: &House, address: Ipv4Addr) -> bool {
    let Some(device) = house.devices().at(address).cloned() else { return false };
    // Another device may have the address by now.
    device.standing == Standing::Refused
        && (device.hardware.is_none() || device.hardware == crate::neighbours::hardware(address))
}

fn note_problem(house: &House, served: &Served, problem: Option<String>) {
    let mut problems = house.discovery_problems.lock().unwrap_or_else(PoisonError::into_inner);
    let news = match problem {
        Some(why) => {
            let news = problems.get(&served.name) != Some(&why);
            if news {
                tracing::warn!("no discovery on {}: {why}; trying again every 30 s", served.name);
            }
            problems.insert(served.name.clone(), why);
            news
        }
        None => problems.remove(&served.name).is_some(),
    };
    drop(problems);
    if news {
        house.tell(Topic::House);
    }
}

fn sighted(house: &Arc<House>, from: SocketAddrV4, heard: Heard) {
    // Anybody can write an address into a datagram: what it says of its sender, such as what it
    // calls itself, is for nobody but whoever connects from there.
    let what = match heard {
        Heard::Search { target, answered: true, .. } => format!("searched for {target}"),
        // A search that is not for us says nothing about us; an announcement does.
        Heard::Search { .. } | Heard::Announcement { leaving: true, .. } => return,
        Heard::Announcement { usn, location, .. } => {
            if let Some(location) = location.filter(|_| usn.contains(":device:MediaServer:")) {
                other_servers::announced(house, *from.ip(), &location);
            }
            "announced itself".to_owned()
        }
        Heard::SameServer { source } => return house.note_twin(source, "UDN"),
    };
    house.heard(*from.ip(), what);
}

async fn listen(ears: Arc<Ears>, multicast: bool, heard: mpsc::Sender<Arrival>) {
    let Some(socket) = (if multicast { ears.group.as_ref() } else { Some(&ears.own) }) else {
        return;
    };
    let mut buffer = vec![0; 65_536];
    loop {
        match socket.recv_from(&mut buffer).await {
            Ok((length, SocketAddr::V4(from))) => {
                let arrival = Arrival {
                    link: ears.served.index,
                    from,
                    multicast,
                    data: buffer[..length].to_vec(),
                };
                // A flood is dropped here, before it costs anything.
                let _ = heard.try_send(arrival);
                if heard.is_closed() {
                    return;
                }
            }
            Ok(_) => {}
            Err(error) => {
                tracing::debug!("receiving on {}: {error}", ears.served.name);
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
        }
    }
}

async fn send(ears: &[Listening], datagram: Datagram) {
    let Some(Listening { ears: pair, .. }) =
        ears.iter().find(|e| e.ears.served.index == datagram.link)
    else {
        return;
    };
    if let Err(error) = pair.own.send_to(&datagram.data, SocketAddr::V4(datagram.to)).await {
        tracing::debug!("sending on {} to {}: {error}", pair.served.name, datagram.to);
    }
}

/// The sockets of an interface: for the group, which may fail by itself, and our own, with its
/// port if that is not the usual one.
type Opened = (io::Result<UdpSocket>, UdpSocket, Option<u16>);

fn open(served: &Served, ttl: u32) -> io::Result<Opened> {
    let socket = |address: Ipv4Addr| -> io::Result<Socket> {
        let socket = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
        socket.set_reuse_address(true)?;
        socket.set_nonblocking(true)?;
        socket.bind(&SocketAddrV4::new(address, SSDP_PORT).into())?;
        Ok(socket)
    };
    // Bound to the group and joined by index, with deliveries to other joins switched off: what
    // arrives here came by this interface (SSDP-3).
    let group = socket(SSDP_GROUP).and_then(|group| {
        let index = socket2::InterfaceIndexOrAddress::Index(served.index);
        group.set_multicast_all_v4(false)?;
        group.join_multicast_v4_n(&SSDP_GROUP, &index)?;
        UdpSocket::from_std(group.into())
    });
    let (own, search_port) = match socket(served.address) {
        Ok(own) => (own, None),
        // Another stack holds the port for itself: advertise all the same (SSDP-6).
        Err(_) => {
            let own = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
            own.set_nonblocking(true)?;
            let free =
                |port: &u16| own.bind(&SocketAddrV4::new(served.address, *port).into()).is_ok();
            let port = SEARCH_PORTS.into_iter().find(free);
            (own, Some(port.ok_or(io::ErrorKind::AddrInUse)?))
        }
    };
    own.set_multicast_if_v4(&served.address)?;
    own.set_multicast_loop_v4(true)?;
    own.set_multicast_ttl_v4(if served.address.is_loopback() { 0 } else { ttl })?;
    Ok((group, UdpSocket::from_std(own.into())?, search_port))
}
