//! Devices that search, list, play, subscribe and hang up, each from an address of its own.

use std::io::{Read as _, Write as _};
use std::net::{TcpListener, UdpSocket};
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use mostra_tests::{SERVER, raw};

use super::ledger::Ledger;

/// How long a device waits for anything.
const PATIENCE: Duration = Duration::from_secs(10);

/// An item that stays all the time.
pub(super) struct Item {
    container: &'static str,
    path: String,
    bytes: Vec<u8>,
}

/// What is on offer all the time, fetched once and compared with the files themselves.
pub(super) fn offered(from: &str, media: &Path) -> Vec<Item> {
    let mut files = Vec::new();
    let mut open = vec![media.to_owned()];
    while let Some(directory) = open.pop() {
        for entry in std::fs::read_dir(directory).expect("a directory").flatten() {
            if entry.path().is_dir() {
                open.push(entry.path());
            } else {
                files.push(std::fs::read(entry.path()).expect("a file"));
            }
        }
    }
    let mut items = Vec::new();
    for container in ["video-all", "music-all", "pictures-all"] {
        let text = raw::unescaped(&raw::browse(from, container).text());
        for item in text.split("<item ").skip(1) {
            let res =
                item.split_once("<res ").and_then(|(_, res)| raw::between(res, ">", "</res>"));
            let server = format!("http://{SERVER}");
            let Some(url) = res.and_then(|url| url.strip_prefix(&server)) else { continue };
            let answer = raw::ask(from, "GET", url, "");
            let bytes = answer.body;
            assert!(files.contains(&bytes), "{url} is no file of the folder ({})", answer.status);
            items.push(Item { container, path: url.to_owned(), bytes });
        }
    }
    items
}

/// One device.
pub(super) struct Visitor<'a> {
    pub address: String,
    pub ledger: &'a Ledger,
    pub items: &'a [Item],
    pub ended: &'a AtomicBool,
    pub chance: fastrand::Rng,
    /// Whether it subscribes now and then.
    pub subscribes: bool,
}

impl Visitor<'_> {
    /// Goes on until the end.
    pub(super) fn live(mut self) {
        while !self.ended.load(Ordering::Relaxed) {
            let (ledger, who) = (self.ledger, self.address.clone());
            match self.chance.u32(..20) {
                0 => ledger.note("find the server", &who, || self.find()),
                1 => ledger.note("read the description", &who, || self.describe()),
                2..=7 => ledger.note("list a container", &who, || self.list()),
                8..=10 => ledger.note("search the catalogue", &who, || self.search()),
                11..=15 => ledger.note("take a part of a file", &who, || self.take()),
                16 => ledger.note("begin a file and hang up", &who, || self.hang_up()),
                17 => ledger.note("read a file slowly", &who, || self.dawdle()),
                _ if self.subscribes => {
                    ledger.note("subscribe and leave", &who, || self.subscribe());
                }
                _ => ledger.note("ask for the update id", &who, || self.update_id()),
            }
            std::thread::sleep(Duration::from_millis(self.chance.u64(50..600)));
        }
    }

    fn ask(&self, request: &str, status: u16) -> Result<raw::Answer, String> {
        let answer = raw::exchange(&self.address, SERVER, request).map_err(|e| e.to_string())?;
        match answer.status == status {
            true => Ok(answer),
            false => Err(format!("{} and not {status}: {}", answer.status, answer.text())),
        }
    }

    fn call(&self, action: &str, arguments: &str) -> Result<String, String> {
        self.ask(&raw::soap("content", action, arguments), 200).map(|answer| answer.text())
    }

    /// Searches up to three times, as datagrams get lost and answers are bounded.
    fn find(&self) -> Result<(), String> {
        let socket = UdpSocket::bind((self.address.as_str(), 0)).map_err(|e| e.to_string())?;
        socket.set_read_timeout(Some(Duration::from_secs(3))).map_err(|e| e.to_string())?;
        let search = b"M-SEARCH * HTTP/1.1\r\nHOST: 127.0.0.1:1900\r\nMAN: \"ssdp:discover\"\r\n\
            ST: urn:schemas-upnp-org:device:MediaServer:1\r\n\r\n";
        let mut buffer = [0; 2048];
        for _ in 0..3 {
            socket.send_to(search, "127.0.0.1:1900").map_err(|e| e.to_string())?;
            if let Ok((length, _)) = socket.recv_from(&mut buffer) {
                return match buffer[..length].starts_with(b"HTTP/1.1 200 OK\r\n") {
                    true => Ok(()),
                    false => Err("no search answer".into()),
                };
            }
        }
        Err("no answer to three searches".into())
    }

    fn describe(&self) -> Result<(), String> {
        let request = format!("GET /about/device.xml HTTP/1.1\r\nHost: {SERVER}\r\n\r\n");
        let answer = self.ask(&request, 200)?;
        let ends = answer.text().trim_end().ends_with("</root>");
        ends.then_some(()).ok_or_else(|| "the description is cut off".into())
    }

    fn item(&mut self) -> &Item {
        let items = self.items;
        &items[self.chance.usize(..items.len())]
    }

    fn list(&mut self) -> Result<(), String> {
        let container = self.item().container;
        let text = self.call(
            "Browse",
            &format!(
                "<ObjectID>{container}</ObjectID><BrowseFlag>BrowseDirectChildren</BrowseFlag>\
                 <Filter>*</Filter><StartingIndex>0</StartingIndex>\
                 <RequestedCount>0</RequestedCount><SortCriteria></SortCriteria>"
            ),
        )?;
        let here = self.items.iter().filter(|item| item.container == container);
        let missing: Vec<&str> =
            here.map(|item| item.path.as_str()).filter(|path| !text.contains(path)).collect();
        match missing.as_slice() {
            [] => Ok(()),
            missing => Err(format!("{container} lists all but {missing:?}")),
        }
    }

    fn search(&mut self) -> Result<(), String> {
        let class = ["videoItem", "audioItem", "imageItem"][self.chance.usize(..3)];
        let text = self.call(
            "Search",
            &format!(
                "<ContainerID>0</ContainerID><SearchCriteria>upnp:class derivedfrom \
                 &quot;object.item.{class}&quot;</SearchCriteria><Filter>*</Filter>\
                 <StartingIndex>0</StartingIndex><RequestedCount>5</RequestedCount>\
                 <SortCriteria></SortCriteria>"
            ),
        )?;
        let number = raw::between(&text, "<NumberReturned>", "</NumberReturned>");
        match number.and_then(|n| n.parse::<u32>().ok()) {
            Some(1..=5) => Ok(()),
            other => Err(format!("{other:?} found")),
        }
    }

    fn update_id(&self) -> Result<(), String> {
        self.call("GetSystemUpdateID", "").map(drop)
    }

    fn take(&mut self) -> Result<(), String> {
        let whole = self.item().bytes.len();
        let item = self.chance.usize(..self.items.len());
        let item = &self.items[item];
        let whole = whole.min(item.bytes.len());
        let first = self.chance.usize(..whole);
        let last = (first + self.chance.usize(..512 << 10)).min(item.bytes.len() - 1);
        let answer = self.ask(
            &format!(
                "GET {} HTTP/1.1\r\nHost: {SERVER}\r\nRange: bytes={first}-{last}\r\n\r\n",
                item.path
            ),
            206,
        )?;
        match answer.body == item.bytes[first..=last] {
            true => Ok(()),
            false => Err(format!("other bytes than those of {}", item.path)),
        }
    }

    /// Asks for a whole file and gives the connection once its head is there.
    fn begin(&mut self) -> Result<(std::net::TcpStream, usize), String> {
        let (path, length) = {
            let item = self.item();
            (item.path.clone(), item.bytes.len())
        };
        let mut stream =
            raw::connect_with(&self.address, SERVER, Some(4096)).map_err(|e| e.to_string())?;
        let request = format!("GET {path} HTTP/1.1\r\nHost: {SERVER}\r\n\r\n");
        stream.write_all(request.as_bytes()).map_err(|e| e.to_string())?;
        let head = raw::read_answer(&mut stream, false).map_err(|e| e.to_string())?;
        match head.status {
            200 => Ok((stream, length)),
            other => Err(format!("{other} for {path}")),
        }
    }

    fn hang_up(&mut self) -> Result<(), String> {
        self.begin().map(drop)
    }

    fn dawdle(&mut self) -> Result<(), String> {
        let (mut stream, length) = self.begin()?;
        let mut left = length;
        let mut buffer = [0; 8 << 10];
        let until = Instant::now() + Duration::from_secs(self.chance.u64(1..5));
        while left > 0 && Instant::now() < until {
            let want = buffer.len().min(left);
            match stream.read(&mut buffer[..want]) {
                Ok(0) => return Err(format!("{left} bytes are missing")),
                Ok(n) => left -= n,
                Err(error) => return Err(error.to_string()),
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        Ok(())
    }

    fn subscribe(&mut self) -> Result<(), String> {
        let listener = TcpListener::bind((self.address.as_str(), 0)).map_err(|e| e.to_string())?;
        let place = listener.local_addr().map_err(|e| e.to_string())?;
        let request = format!(
            "SUBSCRIBE /event/content HTTP/1.1\r\nHost: {SERVER}\r\nCALLBACK: <http://{place}/e>\r\n\
             NT: upnp:event\r\nTIMEOUT: Second-300\r\n\r\n"
        );
        let answer = self.ask(&request, 200)?;
        let sid = answer.field("sid").ok_or("no SID")?.to_owned();
        let first = event(&listener)?;
        if !first.to_lowercase().contains("\r\nseq: 0\r\n") {
            return Err(format!("the first event is not the first: {first}"));
        }
        // Some hang up without a word; the server finds out by itself.
        if self.chance.u32(..10) == 0 {
            return Ok(());
        }
        let request =
            format!("UNSUBSCRIBE /event/content HTTP/1.1\r\nHost: {SERVER}\r\nSID: {sid}\r\n\r\n");
        self.ask(&request, 200).map(drop)
    }
}

/// The next event's head, answered.
fn event(listener: &TcpListener) -> Result<String, String> {
    listener.set_nonblocking(true).map_err(|e| e.to_string())?;
    let until = Instant::now() + PATIENCE;
    loop {
        match listener.accept() {
            Ok((mut stream, _)) => {
                let _ = stream.set_nonblocking(false);
                let _ = stream.set_read_timeout(Some(PATIENCE));
                let mut bytes = Vec::new();
                let mut piece = [0; 4096];
                while !bytes.ends_with(b"</e:propertyset>")
                    && !bytes.windows(14).any(|w| w == b"propertyset>\r\n")
                {
                    match stream.read(&mut piece) {
                        Ok(0) | Err(_) => break,
                        Ok(n) => bytes.extend_from_slice(&piece[..n]),
                    }
                }
                let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n");
                return Ok(String::from_utf8_lossy(&bytes).into_owned());
            }
            Err(_) if Instant::now() < until => std::thread::sleep(Duration::from_millis(10)),
            Err(error) => return Err(format!("no event: {error}")),
        }
    }
}
