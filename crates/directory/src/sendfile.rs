//! Files straight from the drive to the socket: the kernel copies, no byte comes here.
//!
//! A connection whose next request asks for media, and whose head is there in one piece, is
//! served here; head and answer go through the server's own codec. Whatever else comes on a
//! connection is left unread in the socket and the connection handed to the server as it is.

use std::cell::Cell;
use std::fs::File;
use std::io;
use std::net::SocketAddr;
use std::os::fd::AsFd as _;
use std::rc::Rc;
use std::sync::Arc;
use std::time::{Duration, Instant};

use actix_http::body::BodySize;
use actix_http::h1::{Codec, Message, MessageType};
use actix_http::{Request, Response, ServiceConfig};
use actix_service::{Service, ServiceFactory, fn_factory, fn_service};
use actix_web::http::{Method, StatusCode};
use actix_web::rt::net::TcpStream;
use bytes::BytesMut;
use mostra_app::library::files::{OpenedResource, ResourcePart};
use mostra_core::access::Standing;
use mostra_core::present::{RequestedResource, wanted};
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::sendfile::sendfile64;
use socket2::SockRef;
use tokio::io::Interest;
use tokio::time::timeout;
use tokio_util::codec::{Decoder as _, Encoder as _};

use super::connection_limit::ConnectionLimit;
use super::media::{self, MediaBody, Planner};
use super::reject::reject_and_close;
use super::{DeviceConnection, DirectoryParts, HANDED_OVER, HEAD_TIME, KEEP_ALIVE, gate, recorder};

/// Bytes of a head that is looked for here; the few longer ones go to the server.
const HEAD: usize = 8 << 10;
/// Fields of a head (HTTP-9); the server's own codec takes no more.
const FIELDS: usize = 96;
/// Bytes handed to the kernel in one call.
const CALL: usize = 1 << 20;
/// Bytes after which another stream has its turn on the drive's threads.
const TURN: u64 = 16 << 20;
/// And the time after which it has, far below what a drive may take to answer.
const TURN_TIME: Duration = Duration::from_millis(500);
/// How long a thread of the drive waits for a client that reads fast, in milliseconds; one that
/// reads as it plays, or pauses, holds none.
const LINGER: u16 = 3;
/// How long a client may stop reading (HTTP-30).
pub(crate) const STALL: Duration = Duration::from_secs(15 * 60);

/// Serves what can be sent straight, and gives all else to `http`.
pub(crate) fn accept<H>(
    parts: DirectoryParts,
    connections: Arc<ConnectionLimit>,
    http: H,
) -> impl ServiceFactory<TcpStream, Config = (), Response = (), Error = H::Error, InitError = H::InitError>
where
    H: ServiceFactory<TcpStream, Config = (), Response = ()>,
    H::Service: 'static,
    H::Future: 'static,
    H::Error: 'static,
{
    fn_factory(move || {
        let (parts, connections) = (parts.clone(), connections.clone());
        let http = http.new_service(());
        async move {
            let http = Rc::new(http.await?);
            let config = ServiceConfig::default();
            Ok(fn_service(move |stream: TcpStream| {
                let (parts, connections) = (parts.clone(), connections.clone());
                let (http, config) = (http.clone(), config.clone());
                async move {
                    let _ = stream.set_nodelay(true);
                    let Ok(SocketAddr::V4(peer)) = stream.peer_addr() else { return Ok(()) };
                    let standing = parts.devices.standing_at(*peer.ip());
                    let admitted = standing == Some(Standing::Admitted);
                    let Some(_slot) = connections.take(*peer.ip(), admitted) else {
                        let status = StatusCode::SERVICE_UNAVAILABLE;
                        reject_and_close(&stream, status, "Retry-After: 5\r\n").await;
                        return Ok(());
                    };
                    match serve(&parts, stream, &config).await {
                        Some((stream, connection)) => {
                            let connection = Cell::new(Some(connection));
                            HANDED_OVER.scope(connection, http.call(stream)).await
                        }
                        None => Ok(()),
                    }
                }
            }))
        }
    })
}

/// Answers requests for media; gives the connection back when something else comes.
async fn serve(
    parts: &DirectoryParts,
    stream: TcpStream,
    config: &ServiceConfig,
) -> Option<(TcpStream, DeviceConnection)> {
    let stream = Arc::new(stream);
    let connection = DeviceConnection::of(&stream)?;
    let mut patience = HEAD_TIME;
    loop {
        let (request, mut codec, length) = match timeout(patience, next(&stream, config)).await {
            Ok(Next::Media(request, codec, length)) => (request, codec, length),
            Ok(Next::Other) => break,
            Ok(Next::TooMany) => {
                let status = StatusCode::REQUEST_HEADER_FIELDS_TOO_LARGE;
                reject_and_close(&stream, status, "").await;
                return None;
            }
            Ok(Next::Closed) | Err(_) => return None,
        };
        patience = KEEP_ALIVE;
        let began = parts.clock.now();
        let admitted = gate::admit(&parts.network, &parts.devices, &connection, request.head());
        let asking = admitted.as_ref().ok().map(|requester| requester.device.device);
        let mut answer = Response::build(StatusCode::OK).finish().drop_body();
        let body = match admitted {
            Ok(requester) => {
                let planner = Planner {
                    clock: &parts.clock,
                    devices: &parts.devices,
                    library: &parts.library,
                    streams: &parts.streams,
                };
                let plan = planner.plan(&requester, request.head(), request.path()).await;
                answer.head_mut().status = media::status(&plan.delivery);
                for (name, value) in media::fields(&plan.delivery) {
                    answer.headers_mut().insert(name, value);
                }
                plan.body
            }
            Err(status) => {
                answer.head_mut().status = status;
                MediaBody::Nothing
            }
        };
        let piece = match body {
            MediaBody::Station { .. } | MediaBody::Made(_) => break,
            MediaBody::Nothing => None,
            MediaBody::ResourcePart(piece) => Some(piece),
        };
        take(&stream, length).await.ok()?;
        gate::dress(answer.head_mut());
        let bytes = piece.as_ref().map_or(BodySize::Sized(0), |p| BodySize::Sized(p.length));
        if let Some(device) = asking.filter(|device| parts.devices.recordings.runs(*device)) {
            let length = piece.as_ref().map_or(0, |p| p.length);
            let told = (answer.status().as_u16(), answer.headers(), length);
            recorder::note_media(
                &parts.devices,
                parts.clock,
                (device, began),
                request.head(),
                told,
            );
        }
        let mut head = BytesMut::new();
        codec.encode(Message::Item((answer, bytes)), &mut head).ok()?;
        let piece = piece.filter(|p| request.method() != Method::HEAD && p.length > 0);
        let sent = send(&stream, &head, piece.is_some()).await;
        drop(request);
        match (sent, piece) {
            (Err(_), _) => return None,
            (Ok(()), None) => {}
            (Ok(()), Some(piece)) => {
                if push(&stream, piece).await.is_err() {
                    // The promised length is not kept: the connection ends (HTTP-38). A thread
                    // that waits for a drive may hold it a while longer.
                    let _ = SockRef::from(&*stream).shutdown(std::net::Shutdown::Both);
                    return None;
                }
            }
        }
        if !codec.keep_alive() {
            return None;
        }
    }
    Some((Arc::try_unwrap(stream).ok()?, connection))
}

const PATH: &str = "/media/";

enum Next {
    /// A request for media, and the bytes of its head.
    Media(Request, Codec, usize),
    /// Something else, still unread.
    Other,
    /// A head of too many fields, which the server would call malformed.
    TooMany,
    Closed,
}

/// Looks at the next request without taking it from the socket.
async fn next(stream: &TcpStream, config: &ServiceConfig) -> Next {
    // A buffer only once there is something: most connections wait.
    if stream.readable().await.is_err() {
        return Next::Closed;
    }
    let mut seen = vec![0; HEAD];
    let count = match stream.peek(&mut seen).await {
        Ok(0) | Err(_) => return Next::Closed,
        Ok(count) => count,
    };
    seen.truncate(count);
    let lines =
        seen.split(|byte| *byte == b'\n').take_while(|line| !line.trim_ascii_end().is_empty());
    // The first is the request line, the last not whole yet.
    if lines.take(FIELDS + 3).count() > FIELDS + 2 {
        return Next::TooMany;
    }
    let is_media = ["GET ", "HEAD "].iter().any(|method| {
        seen.strip_prefix(method.as_bytes()).is_some_and(|r| r.starts_with(PATH.as_bytes()))
    });
    let end = seen.windows(4).position(|w| w == b"\r\n\r\n").filter(|_| is_media);
    let Some(length) = end.map(|at| at + 4) else { return Next::Other };
    let mut codec = Codec::new(config.clone());
    match codec.decode(&mut BytesMut::from(&seen[..length])) {
        Ok(Some(Message::Item(request)))
            if matches!(codec.message_type(), MessageType::None)
                && !request.path().contains(['%', '\\'])
                && !request.path()[PATH.len()..].contains('/')
                && matches!(wanted(request.path()), Some((_, RequestedResource::Original))) =>
        {
            Next::Media(request, codec, length)
        }
        _ => Next::Other,
    }
}

/// Takes a head that was looked at from the socket.
async fn take(stream: &TcpStream, length: usize) -> io::Result<()> {
    let mut bytes = vec![0; length];
    let mut taken = 0;
    while taken < length {
        stream.readable().await?;
        match stream.try_read(&mut bytes[taken..]) {
            Ok(0) => return Err(io::ErrorKind::UnexpectedEof.into()),
            Ok(n) => taken += n,
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
            Err(error) => return Err(error),
        }
    }
    Ok(())
}

/// Sends a head; `more` says that a body follows, with which it may share a segment (IOP-26).
async fn send(stream: &TcpStream, bytes: &[u8], more: bool) -> io::Result<()> {
    let flags = if more { libc::MSG_MORE } else { 0 } | libc::MSG_NOSIGNAL;
    let mut left = bytes;
    while !left.is_empty() {
        timeout(STALL, stream.writable()).await??;
        let sent = stream
            .try_io(Interest::WRITABLE, || SockRef::from(stream).send_with_flags(left, flags));
        match sent {
            Ok(n) => left = &left[n..],
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
            Err(error) => return Err(error),
        }
    }
    Ok(())
}

/// How far a thread of the drive came.
enum Pushed {
    /// All is sent.
    All,
    /// Another stream has its turn.
    Turn(u64),
    /// The client reads nothing now.
    Full(u64),
    /// The kernel takes nothing though the socket has room: it is short of memory for all
    /// connections together.
    Short(u64),
}

/// After how long the kernel is asked again when it was short of memory: at first, and at most.
const RETRY: (Duration, Duration) = (Duration::from_millis(2), Duration::from_millis(500));

/// Has the kernel send a piece of a file. Reading it happens on the drive's threads.
async fn push(stream: &Arc<TcpStream>, piece: ResourcePart) -> io::Result<()> {
    let ResourcePart { opened, first, length, swapped, transfer } = piece;
    // The kernel sends bytes as they lie; only files as they are come here.
    debug_assert!(!swapped);
    let OpenedResource { file, pool, .. } = opened;
    let (file, end) = (Arc::new(file), first + length);
    // Only whole segments leave until all is handed over; benches/notes.md says what it brings.
    let _ = SockRef::from(&**stream).set_tcp_cork(true);
    let mut at = first;
    let (mut moved, mut wait) = (Instant::now(), RETRY.0);
    let outcome = loop {
        let (to, from) = (stream.clone(), file.clone());
        let pushed = pool.run(move || send_some(&to, &from, at, end)).await;
        if let Ok(Pushed::Turn(now) | Pushed::Short(now) | Pushed::Full(now)) = pushed
            && now > at
        {
            (at, moved, wait) = (now, Instant::now(), RETRY.0);
        }
        match pushed {
            Ok(Pushed::All) => break Ok(()),
            Ok(Pushed::Turn(_)) => {}
            Ok(Pushed::Short(_)) => {
                if moved.elapsed() > STALL {
                    break Err(io::ErrorKind::TimedOut.into());
                }
                // Waiting for room would not wait: there is some. Soon at first, so that streams
                // which go on meanwhile do not have all the memory that becomes free.
                tokio::time::sleep(wait).await;
                wait = (wait * 2).min(RETRY.1);
            }
            Ok(Pushed::Full(_)) => {
                // The library did not see that the socket was full. It is asked again inside, or
                // room that came meanwhile would be missed.
                let full = || match has_room(stream, 0) {
                    Ok(true) => Ok(()),
                    Ok(false) => Err(io::ErrorKind::WouldBlock.into()),
                    Err(error) => Err(error),
                };
                if stream.try_io(Interest::WRITABLE, full).is_err()
                    && !matches!(timeout(STALL, stream.writable()).await, Ok(Ok(())))
                {
                    break Err(io::ErrorKind::TimedOut.into());
                }
            }
            Err(error) => break Err(error),
        }
    };
    let _ = SockRef::from(&**stream).set_tcp_cork(false);
    if let Some(transfer) = transfer {
        match outcome {
            Ok(()) => transfer.hand_over(),
            Err(_) => transfer.drop_rest(),
        }
    }
    outcome
}

/// Whether a socket takes more, now or within some milliseconds.
fn has_room(stream: &TcpStream, within: u16) -> io::Result<bool> {
    let mut socket = [PollFd::new(stream.as_fd(), PollFlags::POLLOUT)];
    Ok(poll(&mut socket, PollTimeout::from(within))? > 0)
}

fn send_some(stream: &TcpStream, file: &File, at: u64, end: u64) -> io::Result<Pushed> {
    let (turn, began) = (end.min(at + TURN), Instant::now());
    let mut offset = i64::try_from(at).map_err(io::Error::other)?;
    let mut refused = None;
    while (offset as u64) < turn {
        if began.elapsed() > TURN_TIME {
            return Ok(Pushed::Turn(offset as u64));
        }
        let count = CALL.min((turn - offset as u64) as usize);
        match sendfile64(stream, file, Some(&mut offset), count) {
            // The file became shorter (HTTP-38).
            Ok(0) => return Err(io::ErrorKind::UnexpectedEof.into()),
            Ok(_) | Err(nix::errno::Errno::EINTR) => {}
            Err(nix::errno::Errno::EAGAIN) if refused == Some(offset) => {
                return Ok(Pushed::Short(offset as u64));
            }
            Err(nix::errno::Errno::EAGAIN) => {
                if !has_room(stream, LINGER)? {
                    return Ok(Pushed::Full(offset as u64));
                }
                refused = Some(offset);
            }
            Err(error) => return Err(error.into()),
        }
    }
    Ok(if turn == end { Pushed::All } else { Pushed::Turn(turn) })
}
