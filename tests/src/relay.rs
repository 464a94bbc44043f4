//! A relay of ours between two wires that loses, doubles and delays frames, from a seed: the
//! kernel of a test machine may have nothing of the kind.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::mem::MaybeUninit;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use nix::libc;
use socket2::{Domain, Protocol, SockAddr, SockAddrStorage, Socket, Type};

/// How badly frames are carried.
#[derive(Debug, Clone, Copy)]
pub struct Weather {
    /// Decides every chance.
    pub seed: u64,
    /// Share of frames that are lost.
    pub loss: f64,
    /// Share of frames that come twice.
    pub doubles: f64,
    /// Longest delay; each frame has its own, so that they overtake each other.
    pub delay: Duration,
}

impl Weather {
    /// As bad as a house's network gets.
    pub const BAD: Weather =
        Weather { seed: 1, loss: 0.2, doubles: 0.1, delay: Duration::from_millis(300) };
}

/// Carries frames between two interfaces of the test's namespace until it is dropped.
pub struct Relay {
    over: Arc<AtomicBool>,
    counts: Arc<[AtomicU64; 3]>,
    threads: Vec<std::thread::JoinHandle<()>>,
}

impl Relay {
    /// Begins to carry.
    ///
    /// # Panics
    /// When packet sockets cannot be opened, which needs root.
    pub fn between(one: &str, other: &str, weather: Weather) -> Relay {
        let over = Arc::new(AtomicBool::new(false));
        let counts: Arc<[AtomicU64; 3]> = Arc::default();
        let ways = [(one, other, weather.seed), (other, one, weather.seed ^ 0x5eed)];
        let threads = ways.map(|(from, to, seed)| {
            let (from, to) = (packets(from), packets(to));
            let (over, counts) = (over.clone(), counts.clone());
            std::thread::spawn(move || {
                carry(&from, &to, Weather { seed, ..weather }, &over, &counts)
            })
        });
        Relay { over, counts, threads: threads.into() }
    }

    /// Frames carried, lost and doubled so far.
    pub fn counts(&self) -> [u64; 3] {
        [0, 1, 2].map(|n| self.counts[n].load(Ordering::Relaxed))
    }
}

impl Drop for Relay {
    fn drop(&mut self) {
        self.over.store(true, Ordering::Relaxed);
        for thread in self.threads.drain(..) {
            let _ = thread.join();
        }
    }
}

/// A socket for all frames that arrive on an interface, or leave by it.
fn packets(interface: &str) -> Socket {
    let every = (libc::ETH_P_ALL as u16).to_be();
    let socket = Socket::new(Domain::PACKET, Type::RAW, Some(Protocol::from(i32::from(every))))
        .expect("a packet socket");
    let index = nix::net::if_::if_nametoindex(interface).expect("the interface");
    socket.bind(&link_address(every, index)).expect("bound");
    socket.set_read_timeout(Some(Duration::from_millis(5))).expect("a timeout");
    socket
}

#[allow(unsafe_code)]
fn link_address(protocol: u16, index: u32) -> SockAddr {
    let mut storage = SockAddrStorage::zeroed();
    // SAFETY: `sockaddr_ll` is plain data and fits into the storage, which is all zero.
    unsafe {
        let link: &mut libc::sockaddr_ll = storage.view_as();
        link.sll_family = libc::AF_PACKET as u16;
        link.sll_protocol = protocol;
        link.sll_ifindex = index as i32;
        SockAddr::new(storage, size_of::<libc::sockaddr_ll>() as libc::socklen_t)
    }
}

fn carry(from: &Socket, to: &Socket, weather: Weather, over: &AtomicBool, counts: &[AtomicU64; 3]) {
    let mut random = fastrand::Rng::with_seed(weather.seed);
    let mut waiting: BinaryHeap<Reverse<(Instant, u64, Vec<u8>)>> = BinaryHeap::new();
    let mut number = 0;
    let mut buffer = vec![MaybeUninit::uninit(); 70_000];
    let count = |n: usize| counts[n].fetch_add(1, Ordering::Relaxed);
    while !over.load(Ordering::Relaxed) {
        if let Some((length, true)) = receive(from, &mut buffer) {
            let times = match random.f64() {
                chance if chance < weather.loss => 0,
                chance if chance < weather.loss + weather.doubles => 2,
                _ => 1,
            };
            count([1, 0, 2][times]);
            for _ in 0..times {
                let delay = weather.delay.mul_f64(random.f64());
                number += 1;
                waiting.push(Reverse((Instant::now() + delay, number, filled(&buffer[..length]))));
            }
        }
        while waiting.peek().is_some_and(|Reverse((at, _, _))| *at <= Instant::now()) {
            if let Some(Reverse((_, _, frame))) = waiting.pop() {
                // A wire that is down loses it as well.
                let _ = to.send(&frame);
            }
        }
    }
}

/// Bytes of the next frame, and whether it arrived here, rather than being sent from here.
#[allow(unsafe_code)]
fn receive(socket: &Socket, buffer: &mut [MaybeUninit<u8>]) -> Option<(usize, bool)> {
    let (length, address) = socket.recv_from(buffer).ok()?;
    // SAFETY: addresses of a packet socket are `sockaddr_ll`.
    let kind = unsafe { (*address.as_ptr().cast::<libc::sockaddr_ll>()).sll_pkttype };
    Some((length, kind != libc::PACKET_OUTGOING))
}

#[allow(unsafe_code)]
fn filled(bytes: &[MaybeUninit<u8>]) -> Vec<u8> {
    // SAFETY: `recv_from` filled as many as it says.
    bytes.iter().map(|byte| unsafe { byte.assume_init() }).collect()
}

/// Has an interface of the namespace that the thread is in finish its checksums: what goes over
/// a relay is no longer looked after by the kernel.
///
/// # Panics
/// When the interface does not take it.
#[allow(unsafe_code)]
pub fn finish_checksums(interface: &str) {
    const SIOCETHTOOL: libc::Ioctl = 0x8946;
    const ETHTOOL_STXCSUM: u32 = 0x17;
    #[repr(C)]
    struct Value {
        command: u32,
        data: u32,
    }
    let mut value = Value { command: ETHTOOL_STXCSUM, data: 0 };
    let socket = Socket::new(Domain::IPV4, Type::DGRAM, None).expect("a socket");
    // SAFETY: `ifreq` is plain data; the name fits with its end, and the value that it points to
    // lives until the call is over.
    let done = unsafe {
        let mut request: libc::ifreq = std::mem::zeroed();
        for (to, from) in request.ifr_name.iter_mut().zip(interface.bytes().take(15)) {
            *to = from as libc::c_char;
        }
        request.ifr_ifru.ifru_data = (&raw mut value).cast();
        libc::ioctl(std::os::fd::AsRawFd::as_raw_fd(&socket), SIOCETHTOOL, &raw mut request)
    };
    assert_eq!(done, 0, "{interface}: {}", std::io::Error::last_os_error());
}
