//! What the kernel knows of a connection: bytes the peer acknowledged (TCP_INFO).
//!
//! Handing bytes to the kernel proves nothing; only what the peer acknowledged counts as
//! delivered. And what the peer's kernel acknowledged may still lie unread in its buffer. Its
//! window tells: the *edge*, what it acknowledged and what it has room for together, moves on
//! only when the program behind it reads. So the edge is noted once the first filling of the
//! buffer is over, and as much as is acknowledged beyond it has surely been read.

use std::os::fd::{AsRawFd, BorrowedFd, OwnedFd, RawFd};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use socket2::SockRef;

/// A look at a connection.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Reading {
    /// Bytes of ours that the peer acknowledged since the connection began.
    pub acked: u64,
    /// Bytes in our kernel's queue, sent or not, that it has not acknowledged.
    pub queued: u64,
    /// Whether the peer has room for at least half of what it ever had: whoever read all of a
    /// short answer has, whoever leaves a long one unread has not.
    pub roomy: bool,
    /// Bytes that the program behind the peer has surely read since [`TcpProbe::begin`].
    pub read: u64,
}

/// When the first filling of the peer's buffer is taken to be over.
const FILLED: Duration = Duration::from_secs(1);

/// How long a closed connection is watched for what is still under way to the peer.
const LINGER: Duration = Duration::from_secs(3);

#[derive(Debug)]
enum Socket {
    /// Owned by the server, open until [`TcpProbe::close`].
    Open(RawFd),
    /// A copy of our own, kept while bytes are still under way.
    Lingering(OwnedFd, Instant),
    Gone,
}

#[derive(Debug)]
struct ProbeState {
    socket: Socket,
    last: Reading,
    largest_window: u64,
    began: Instant,
    /// The edge when the buffer had filled for the first time.
    filled: Option<u64>,
}

impl ProbeState {
    fn note(&mut self, kernel: Kernel, now: Instant) {
        self.largest_window = self.largest_window.max(kernel.window);
        let edge = kernel.acked + kernel.window;
        if self.filled.is_none() && now.duration_since(self.began) >= FILLED {
            self.filled = Some(edge);
        }
        // What was acknowledged beyond that edge found room only because as much was read.
        let read = self.filled.map_or(0, |filled| kernel.acked.saturating_sub(filled));
        let roomy = kernel.window * 2 >= self.largest_window;
        self.last = Reading { acked: kernel.acked, queued: kernel.queued, roomy, read };
    }
}

/// A connection that can be looked at as long as bytes are under way, and remembers its last
/// reading.
#[derive(Debug)]
pub struct TcpProbe(Mutex<ProbeState>, AtomicU32);

impl TcpProbe {
    /// Watches a socket. The caller must call [`close`](Self::close) before the socket closes.
    pub fn new(socket: RawFd) -> TcpProbe {
        let state = ProbeState {
            socket: Socket::Open(socket),
            last: Reading::default(),
            largest_window: 0,
            began: Instant::now(),
            filled: None,
        };
        TcpProbe(Mutex::new(state), AtomicU32::new(0))
    }

    /// An answer begins: what is read is counted from here on. Gives a fresh reading.
    pub fn begin(&self) -> Reading {
        {
            let mut state = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            state.began = Instant::now();
            state.filled = None;
            state.last.read = 0;
        }
        self.read()
    }

    /// A fresh reading, or the last one if the connection is gone.
    pub fn read(&self) -> Reading {
        let mut state = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let socket = match &state.socket {
            Socket::Open(socket) => Some(*socket),
            Socket::Lingering(copy, _) => Some(copy.as_raw_fd()),
            Socket::Gone => None,
        };
        if let Some(now) = socket.and_then(kernel_reading) {
            state.note(now, Instant::now());
        }
        let over = matches!(&state.socket, Socket::Lingering(_, until) if state.last.queued <= 1 || Instant::now() > *until);
        if over {
            state.socket = Socket::Gone;
        }
        state.last
    }

    /// Whether readings may still change.
    pub fn is_open(&self) -> bool {
        !matches!(self.0.lock().unwrap_or_else(PoisonError::into_inner).socket, Socket::Gone)
    }

    /// How long the other end may leave what it is sent unread, before the kernel ends the
    /// connection.
    pub fn limit(&self, longest: Duration) {
        let state = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Socket::Open(socket) = state.socket
            && self.1.swap(longest.as_millis() as u32, Ordering::Relaxed)
                != longest.as_millis() as u32
        {
            set_user_timeout(socket, longest);
        }
    }

    /// Ends the connection: whatever waits for it, at either end, is told.
    #[allow(unsafe_code)]
    pub fn end(&self) {
        let state = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Socket::Open(socket) = state.socket {
            // SAFETY: `close`, which takes the same lock, runs before the server closes the
            // socket, so the descriptor is open and still the same.
            unsafe { libc::shutdown(socket, libc::SHUT_RDWR) };
        }
    }

    /// Lets go of the server's socket. What is still under way is watched a little longer.
    pub fn close(&self) {
        let last = self.read();
        let mut state = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Socket::Open(socket) = state.socket {
            let copy = if last.queued > 1 { copy_of(socket) } else { None };
            state.socket =
                copy.map_or(Socket::Gone, |copy| Socket::Lingering(copy, Instant::now() + LINGER));
        }
    }
}

#[allow(unsafe_code)]
fn set_user_timeout(socket: RawFd, longest: Duration) {
    // SAFETY: called under the lock that `close` takes before the server closes the socket.
    let socket = unsafe { BorrowedFd::borrow_raw(socket) };
    // Where the kernel does not have it, the other end is waited for as ever.
    let _ = SockRef::from(&socket).set_tcp_user_timeout(Some(longest));
}

#[allow(unsafe_code)]
fn copy_of(socket: RawFd) -> Option<OwnedFd> {
    // SAFETY: `close` runs before the server closes the socket, so the descriptor is open.
    unsafe { BorrowedFd::borrow_raw(socket) }.try_clone_to_owned().ok()
}

/// What the kernel says.
#[derive(Debug, Clone, Copy)]
struct Kernel {
    acked: u64,
    queued: u64,
    window: u64,
}

/// Reads `struct tcp_info` by its fixed offsets (linux/tcp.h); the libc crate's copy ends
/// before the fields needed here.
#[allow(unsafe_code)]
fn kernel_reading(socket: RawFd) -> Option<Kernel> {
    const BYTES_ACKED: usize = 120;
    const SEND_WINDOW: usize = 228;
    let mut info = [0u8; 256];
    let mut length = info.len() as libc::socklen_t;
    let mut queued: libc::c_int = 0;
    // SAFETY: both calls write at most `length` bytes, or one int, into buffers that live here;
    // a descriptor that is no TCP socket makes them fail.
    let failed = unsafe {
        libc::getsockopt(
            socket,
            libc::IPPROTO_TCP,
            libc::TCP_INFO,
            info.as_mut_ptr().cast(),
            &raw mut length,
        ) != 0
            || libc::ioctl(socket, libc::TIOCOUTQ, &raw mut queued) != 0
    };
    if failed || (length as usize) < SEND_WINDOW + 4 {
        return None;
    }
    let acked = u64::from_ne_bytes(info[BYTES_ACKED..BYTES_ACKED + 8].try_into().ok()?);
    let window = u32::from_ne_bytes(info[SEND_WINDOW..SEND_WINDOW + 4].try_into().ok()?);
    Some(Kernel { acked, queued: u64::try_from(queued).unwrap_or(0), window: u64::from(window) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::{Read, Write};
    use std::net::{TcpListener, TcpStream};

    fn await_reading(probe: &TcpProbe, what: impl Fn(Reading) -> bool) -> Reading {
        let end = Instant::now() + Duration::from_secs(10);
        loop {
            let reading = probe.read();
            if what(reading) {
                return reading;
            }
            assert!(Instant::now() < end, "{reading:?}");
            std::thread::yield_now();
        }
    }

    #[test]
    fn what_nobody_reads_is_not_read() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let mut peer = TcpStream::connect(listener.local_addr().unwrap()).unwrap();
        let (mut ours, _) = listener.accept().unwrap();
        let probe = TcpProbe::new(ours.as_raw_fd());
        let start = probe.begin().acked;
        ours.set_nonblocking(true).unwrap();
        let mut sent = 0;
        while let Ok(n) = ours.write(&[0; 65_536]) {
            sent += n as u64;
        }
        // The peer's kernel fills up; whatever it acknowledged, nothing counts as read.
        let full = await_reading(&probe, |r| r.acked > start && !r.roomy && r.queued > 0);
        assert_eq!(full.read, 0, "{full:?}");
        std::thread::sleep(FILLED + Duration::from_millis(100));
        assert_eq!(probe.read().read, 0, "nor later");
        // Once the peer reads, it does; what it had room for at first stays uncounted.
        peer.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
        let mut left = sent;
        let mut buffer = vec![0; 65_536];
        while left > 0 {
            left -= peer.read(&mut buffer).unwrap() as u64;
        }
        let after = await_reading(&probe, |r| r.acked >= start + sent && r.queued == 0 && r.roomy);
        assert!(after.read > 0 && after.read <= sent, "{after:?} of {sent}");
        probe.close();
        assert!(!probe.is_open() && probe.read().acked >= start + sent, "the last reading stays");
    }
}
