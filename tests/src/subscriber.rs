//! A subscriber of the tests' own: SUBSCRIBE by hand, events read from a bare socket.

use std::io::{Read, Write};
use std::net::TcpListener;
use std::time::{Duration, Instant};

use crate::raw::{self, Answer};

/// A subscriber.
pub struct Subscriber {
    listener: TcpListener,
    /// Where it is.
    pub from: String,
    /// Its subscription.
    pub sid: String,
}

impl Subscriber {
    /// Subscribes to the content directory.
    ///
    /// # Panics
    /// When it is not granted.
    pub fn new(from: &str) -> Subscriber {
        Subscriber::to(from, "content")
    }

    /// Subscribes to a service.
    ///
    /// # Panics
    /// When it is not granted.
    pub fn to(from: &str, service: &str) -> Subscriber {
        let listener = TcpListener::bind((from, 0)).expect("a listener");
        let place = listener.local_addr().expect("its address");
        let fields = format!(
            "CALLBACK: <http://{place}/ev?k=1>\r\nNT: upnp:event\r\nTIMEOUT: Second-600\r\n"
        );
        let answer = raw::ask(from, "SUBSCRIBE", &format!("/event/{service}"), &fields);
        assert_eq!(answer.status, 200, "{}", answer.head);
        assert_eq!(answer.field("timeout"), Some("Second-600"));
        let sid = answer.field("sid").expect("a SID").to_owned();
        assert!(sid.starts_with("uuid:"));
        Subscriber { listener, from: from.to_owned(), sid }
    }

    /// Renews.
    pub fn renew(&self, service: &str) -> Answer {
        let fields = format!("SID: {}\r\nTIMEOUT: Second-900\r\n", self.sid);
        raw::ask(&self.from, "SUBSCRIBE", &format!("/event/{service}"), &fields)
    }

    /// Ends it.
    pub fn end(&self, service: &str) -> Answer {
        let fields = format!("SID: {}\r\n", self.sid);
        raw::ask(&self.from, "UNSUBSCRIBE", &format!("/event/{service}"), &fields)
    }

    /// The next event within `seconds`, answered with 200: its head and body.
    pub fn event(&self, seconds: u64) -> Option<(String, String)> {
        self.event_answered(seconds, "200 OK")
    }

    /// The same, answered with 200 and a body that never ends; gives how many bytes of it were
    /// sent until the other side had enough.
    ///
    /// # Panics
    /// When the sockets fail, or the other side never has enough.
    pub fn event_answered_without_end(&self, seconds: u64) -> Option<usize> {
        self.listener.set_nonblocking(false).expect("the socket");
        let (mut stream, _) = self.listener.accept().expect("the event");
        stream.set_read_timeout(Some(Duration::from_secs(seconds))).expect("the socket");
        let _ = stream.read(&mut [0; 8192]).expect("the event");
        stream
            .write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 9000000000\r\n\r\n")
            .expect("the socket");
        let end = Instant::now() + Duration::from_secs(seconds);
        let mut sent = 0;
        while Instant::now() < end {
            match stream.write(&[b'x'; 4096]) {
                Ok(count) => sent += count,
                Err(_) => return Some(sent),
            }
        }
        None
    }

    /// The same, answered with another status.
    ///
    /// # Panics
    /// When the sockets fail.
    pub fn event_answered(&self, seconds: u64, status: &str) -> Option<(String, String)> {
        self.listener.set_nonblocking(true).expect("the socket");
        let end = Instant::now() + Duration::from_secs(seconds);
        let mut stream = loop {
            match self.listener.accept() {
                Ok((stream, _)) => break stream,
                Err(_) if Instant::now() < end => std::thread::sleep(Duration::from_millis(10)),
                Err(_) => return None,
            }
        };
        stream.set_nonblocking(false).expect("the socket");
        let mut bytes = Vec::new();
        let mut buffer = [0; 4096];
        loop {
            let text = String::from_utf8_lossy(&bytes).into_owned();
            if let Some((head, body)) = text.split_once("\r\n\r\n") {
                let length = head.lines().find_map(|l| {
                    let (name, value) = l.split_once(':')?;
                    name.eq_ignore_ascii_case("content-length")
                        .then(|| value.trim().parse::<usize>().ok())?
                });
                if length.is_some_and(|l| body.len() >= l) {
                    stream
                        .write_all(
                            format!("HTTP/1.1 {status}\r\nContent-Length: 0\r\n\r\n").as_bytes(),
                        )
                        .expect("the socket");
                    return Some((head.to_owned(), body.to_owned()));
                }
            }
            match stream.read(&mut buffer).expect("the socket") {
                0 => return None,
                n => bytes.extend_from_slice(&buffer[..n]),
            }
        }
    }
}
