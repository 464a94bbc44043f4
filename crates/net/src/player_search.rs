//! A search as a player makes it, from a socket of its own.

use std::io;
use std::net::{Ipv4Addr, SocketAddrV4, UdpSocket};
use std::time::{Duration, Instant};

use socket2::{Domain, Protocol, Socket, Type};

/// How long is waited for an answer: what MX asks for, and a second.
const MX: u64 = 1;
const WAIT: Duration = Duration::from_secs(MX + 1);
/// Where players search.
const GROUP: SocketAddrV4 = SocketAddrV4::new(Ipv4Addr::new(239, 255, 255, 250), 1900);

/// Whether a search for a UDN, from an address of this host, is answered by whoever has it. Takes two
/// seconds if not.
///
/// # Errors
/// Those of the socket.
pub fn search_is_answered(address: Ipv4Addr, udn: &str) -> io::Result<bool> {
    let socket = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
    socket.set_multicast_if_v4(&address)?;
    socket.set_multicast_loop_v4(true)?;
    socket.bind(&SocketAddrV4::new(address, 0).into())?;
    let socket = UdpSocket::from(socket);
    let search = format!(
        "M-SEARCH * HTTP/1.1\r\nHOST: {GROUP}\r\nMAN: \"ssdp:discover\"\r\nMX: {MX}\r\nST: {udn}\r\n\r\n"
    );
    socket.send_to(search.as_bytes(), GROUP)?;
    let end = Instant::now() + WAIT;
    let mut answer = [0; 2048];
    loop {
        let left = end.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return Ok(false);
        }
        socket.set_read_timeout(Some(left))?;
        match socket.recv_from(&mut answer) {
            Ok((length, _)) => {
                let text = String::from_utf8_lossy(&answer[..length]).to_ascii_lowercase();
                if text.contains(&udn.to_ascii_lowercase()) {
                    return Ok(true);
                }
            }
            Err(error)
                if matches!(error.kind(), io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut) =>
            {
                return Ok(false);
            }
            Err(error) => return Err(error),
        }
    }
}
