//! Looking for things on the network: what the finder tells is kept, and documents are read.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, SocketAddrV4};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use bytes::Bytes;
use mostra_core::found::{
    Described, DocumentFailure, DocumentReading, FoundBook, OutsideAct, Outsider, Outsiders, Role,
};
use mostra_core::ids::FoundId;
use mostra_net::http::{self, Bounds, Client, HttpOptions, Method, RequestError};
use mostra_protocol::Moment;
use mostra_protocol::control_point::{
    Datagram, Finder, Link, LinkId, compose_search, read_answer, read_description, write_call,
};
use mostra_protocol::model::charset;
use mostra_protocol::model::identifiers::{MEDIA_RENDERER, MEDIA_SERVER, ROOT_DEVICE, SSDP_PORT};
use mostra_protocol::model::service::{
    self, Definition, ServiceAction, av_transport, connection_manager, content_directory,
    rendering_control,
};
use mostra_protocol::model::text::{NAME, tame};
use tokio::task::JoinSet;

use super::{Network, Sameness, server_field};
use crate::Topic;
use crate::devices::{Devices, TriedDevice};
use crate::foreign_text::parse;

/// What is searched for: media first, and all else that is there.
const TARGETS: [&str; 3] = [MEDIA_RENDERER, MEDIA_SERVER, ROOT_DEVICE];
const BOUNDS: Bounds =
    Bounds { connect: Duration::from_secs(3), whole: Some(Duration::from_secs(10)), silence: None };
/// How often consoles are told of changes at most.
const TELL: Duration = Duration::from_millis(200);
/// Devices tried with each search.
const TRIED: usize = 64;
/// How long the system takes to find out that nobody has an address any more: it waits five seconds
/// for a sign of life, then asks three times, a second apart.
const RESOLVED: Duration = Duration::from_secs(10);
/// How long after a search the devices are tried once more. The kernel takes a device that has just
/// answered for reachable, for up to 45 s, and does not ask for its hardware address meanwhile.
const TRIED_AGAIN: Duration = Duration::from_secs(50);
/// Bytes of a document (SCP-14), and of an icon.
const DOCUMENT: usize = 512 << 10;
const ICON: usize = 64 << 10;
/// Icons kept.
const ICONS: usize = 128;

/// What was found on the network.
#[derive(Debug, Default)]
pub struct FoundThings {
    book: Mutex<FoundBook>,
    outsiders: Mutex<Outsiders>,
    /// When consoles were last told of one.
    outsiders_told: Mutex<Moment>,
    last_search: Mutex<Option<Moment>>,
    icons: Mutex<HashMap<FoundId, (String, Bytes)>>,
}

impl FoundThings {
    /// All that was found.
    pub fn book(&self) -> MutexGuard<'_, FoundBook> {
        self.book.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Those who asked from elsewhere, the latest first.
    pub fn outsiders(&self) -> Vec<Outsider> {
        self.outsiders.lock().unwrap_or_else(PoisonError::into_inner).latest()
    }

    /// When the last search went out.
    pub fn last_search(&self) -> Option<Moment> {
        *self.last_search.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A thing's icon, with its MIME type.
    pub fn icon(&self, id: FoundId) -> Option<(String, Bytes)> {
        self.icons.lock().unwrap_or_else(PoisonError::into_inner).get(&id).cloned()
    }

    /// Says which of the UDNs under which a thing was announced its description does not have.
    fn log_only_announced(&self, reading: &DocumentReading) {
        let book = self.book();
        let described = book.get(reading.id).and_then(|thing| thing.identity()).unwrap_or_default();
        for udn in book.only_announced(reading.id) {
            tracing::info!(
                at = %reading.address,
                "announced as {udn}, described as {described}: the description counts",
            );
        }
    }

    fn keep_icon(&self, id: FoundId, icon: Option<(String, Bytes)>) {
        let book = self.book();
        let mut icons = self.icons.lock().unwrap_or_else(PoisonError::into_inner);
        match icon {
            Some(icon) => {
                icons.retain(|known, _| book.get(*known).is_some());
                if icons.len() < ICONS || icons.contains_key(&id) {
                    icons.insert(id, icon);
                }
            }
            None => {
                icons.remove(&id);
            }
        }
    }
}

impl Network {
    /// Notes that somebody asked from where this house serves nobody.
    pub fn note_outsider(&self, address: Ipv4Addr, act: OutsideAct) {
        let mut outsiders = self.found.outsiders.lock().unwrap_or_else(PoisonError::into_inner);
        let now = self.context.now();
        // Addresses are easily forged: consoles are told of new ones once a second at most.
        if outsiders.note(now, address, act) {
            drop(outsiders);
            let mut told = self.found.outsiders_told.lock().unwrap_or_else(PoisonError::into_inner);
            if now.since(*told) >= Duration::from_secs(1) {
                *told = now;
                self.context.changed(Topic::Network);
            }
        }
    }
}

/// What a reading gave.
struct DocumentsRead {
    result: Result<Described, DocumentFailure>,
    icon: Option<(String, Bytes)>,
}

/// The finder, and the readings that are going on.
pub(super) struct Finding {
    network: Arc<Network>,
    devices: Arc<Devices>,
    finder: Finder,
    readings: JoinSet<DocumentsRead>,
    /// Which reading each task does.
    running: HashMap<tokio::task::Id, DocumentReading>,
    /// Searches to single devices that are to be sent.
    unicast: Vec<Datagram>,
    /// Devices that are being tried, and when it is known whether they answer.
    tried: Option<(Moment, Vec<TriedDevice>)>,
    /// When they are tried once more.
    again: Option<Moment>,
    /// Whether something changed of which consoles are not told yet, and when they last were.
    untold: bool,
    told: Moment,
}

impl Finding {
    pub(super) fn new(network: Arc<Network>, devices: Arc<Devices>) -> Finding {
        let finder = Finder::new(&network.udn(), &TARGETS, server_field());
        Finding {
            network,
            devices,
            finder,
            readings: JoinSet::new(),
            running: HashMap::new(),
            unicast: Vec::new(),
            tried: None,
            again: None,
            untold: false,
            told: Moment::EPOCH,
        }
    }

    /// We are somebody else from now on.
    pub(super) fn set_own_udn(&mut self, udn: &str) {
        self.finder.set_own_udn(udn);
    }

    pub(super) fn link_up(&mut self, link: Link) {
        self.finder.link_up(self.network.context.now(), link);
    }

    pub(super) fn link_down(&mut self, id: LinkId) {
        self.finder.link_down(id);
    }

    /// Searches because a person asks.
    pub(super) fn search(&mut self) {
        self.finder.search(self.network.context.now());
    }

    /// A datagram came by the group or by the socket of searches.
    pub(super) fn handle(&mut self, link: LinkId, from: SocketAddrV4, data: &[u8]) {
        self.finder.handle(self.network.context.now(), link, from, data);
    }

    /// Completes when a reading ended; for ever while there is none.
    pub(super) async fn reading_ended(&mut self) {
        let Some(ended) = self.readings.join_next_with_id().await else {
            return std::future::pending().await;
        };
        let id = ended.as_ref().map_or_else(tokio::task::JoinError::id, |(id, _)| *id);
        let Some(reading) = self.running.remove(&id) else { return };
        let broken =
            || DocumentFailure::Unreadable("reading it failed, a fault of this service".into());
        let (result, icon) = match ended {
            Ok((_, DocumentsRead { result, icon })) => (result, icon),
            Err(_) => (Err(broken()), None),
        };
        let now = self.network.context.now();
        let same_name = result.as_ref().is_ok_and(|d| d.name.trim() == self.network.name());
        if let Ok(described) = &result {
            self.devices.described_at(reading.address, &described.name, &described.udns);
        }
        let found = &self.network.found;
        if result.is_ok() {
            found.keep_icon(reading.id, icon);
        }
        let read = found.book().was_read(now, &reading, result);
        found.log_only_announced(&reading);
        let is_server = |book: &FoundBook| {
            book.get(reading.id).is_some_and(|thing| thing.roles().contains(&Role::Server))
        };
        if same_name && is_server(&found.book()) {
            self.network.note_duplicate(reading.address, Sameness::Name);
        }
        if let Some((udns, present)) = read {
            for udn in udns {
                match present {
                    true => self.finder.present(now, &udn),
                    false => self.finder.absent(&udn),
                }
            }
        }
        self.untold = true;
    }

    /// Takes what changed, begins what is due, and gives the next search to send.
    pub(super) fn poll(&mut self) -> Option<Datagram> {
        let now = self.network.context.now();
        // Who plays matters only when the time of something is over.
        if self.finder.next_deadline().is_some_and(|deadline| deadline <= now) {
            self.finder.set_playing(self.devices.receiving_addresses());
        }
        let output = self.finder.poll_output(now);
        let (mut changed, mut searched) = (false, false);
        {
            let mut book = self.network.found.book();
            let last = self.finder.last_search();
            let mut last_search =
                self.network.found.last_search.lock().unwrap_or_else(PoisonError::into_inner);
            if last != *last_search {
                *last_search = last;
                book.searched(now);
                changed = true;
                searched = true;
            }
            drop(last_search);
            while let Some(event) = self.finder.poll_event(now) {
                changed |= book.told(now, event);
            }
            changed |= book.end_search(now, self.finder.found());
            while let Some(reading) = book.next_reading(now) {
                let from = self.network.own_address(reading.link);
                let task = self.readings.spawn(read_documents(from, reading.location.clone()));
                self.running.insert(task.id(), reading);
            }
        }
        if searched {
            self.again = Some(now + TRIED_AGAIN);
            self.try_devices(now);
        } else if self.again.take_if(|at| *at <= now).is_some() {
            self.try_devices(now);
        }
        if let Some((_, tried)) = self.tried.take_if(|(at, _)| *at <= now) {
            self.devices.were_tried(&tried);
        }
        // However many announce themselves, consoles are told a few times a second.
        self.untold |= changed;
        if self.untold && now.since(self.told) >= TELL {
            (self.untold, self.told) = (false, now);
            self.network.context.changed(Topic::Network);
        }
        output.or_else(|| self.unicast.pop())
    }

    /// Searches at the devices that are known, whatever they announce: whether the system still
    /// finds their hardware address says whether they are switched on.
    fn try_devices(&mut self, now: Moment) {
        let served = self.network.served();
        let mut tried = self.devices.to_try(TRIED);
        // Of one that is in no network of ours now nothing can be said.
        tried.retain(|(_, address, _)| {
            let Some(interface) = served.iter().find(|served| served.holds(*address)) else {
                return false;
            };
            let data = compose_search(ROOT_DEVICE, 1, server_field());
            let to = SocketAddrV4::new(*address, SSDP_PORT);
            self.unicast.push(Datagram { link: interface.index, to, data });
            true
        });
        // Whom it asked before is judged by the new search.
        self.tried = Some((now + RESOLVED, tried));
    }

    /// When [`poll`](Self::poll) has something to do next.
    pub(super) fn next_deadline(&self) -> Option<Moment> {
        let book = self.network.found.book().next_deadline();
        let tried = self.tried.as_ref().map(|(at, _)| *at);
        book.into_iter()
            .chain(self.finder.next_deadline())
            .chain(tried)
            .chain(self.again)
            .chain(self.untold.then(|| self.told + TELL))
            .min()
    }
}

/// Reads what a thing says of itself, from our address on its interface.
async fn read_documents(from: Option<Ipv4Addr>, location: String) -> DocumentsRead {
    let mut icon = None;
    let result = async {
        let options = HttpOptions {
            user_agent: Some(server_field()),
            from: from.map(IpAddr::V4),
            ..HttpOptions::default()
        };
        // Without an address of ours there the request could leave by another interface.
        let Some(_) = from else { return Err(DocumentFailure::Silent) };
        let client = Client::new(&BOUNDS, &options).map_err(|_| DocumentFailure::Silent)?;
        let text = document(&client, &location).await?;
        let at = location.clone();
        let mut described =
            parse(text, move |text| read_description(text).map(|read| Described::of(&at, &read)))
                .await
                .map_err(|e| {
                    DocumentFailure::Unreadable(tame(&e.to_string(), NAME).into_owned())
                })?;
        read_abilities(&client, &mut described).await;
        if let Some((url, mime)) = &described.icon
            && let Ok(bytes) = client.document(url, ICON).await
            && is_picture(mime, &bytes)
        {
            icon = Some((mime.clone(), Bytes::from(bytes)));
        }
        Ok(described)
    }
    .await;
    DocumentsRead { result, icon }
}

/// Whether bytes begin as a picture of this type does: what browsers are given is what it says.
fn is_picture(mime: &str, bytes: &[u8]) -> bool {
    match mime {
        "image/png" => bytes.starts_with(b"\x89PNG\r\n\x1a\n"),
        _ => bytes.starts_with(b"\xff\xd8\xff"),
    }
}

async fn document(client: &Client, url: &str) -> Result<String, DocumentFailure> {
    let bytes = client.document(url, DOCUMENT).await.map_err(failure)?;
    let unknown = || DocumentFailure::Unreadable("its charset is not known".into());
    charset::decode(None, &bytes).ok_or_else(unknown)
}

fn failure(error: RequestError) -> DocumentFailure {
    match error {
        RequestError::Unsendable(_) | RequestError::Unreachable(_) => DocumentFailure::Silent,
        RequestError::BrokenOff(_) => DocumentFailure::BrokenOff,
        RequestError::Status(status) => DocumentFailure::Status(status.as_u16()),
        RequestError::Compressed => DocumentFailure::Unreadable(error.to_string()),
        RequestError::TooLarge(_) => DocumentFailure::TooLarge,
    }
}

/// Asks a renderer what it can do and plays, and a server whether its directory answers.
async fn read_abilities(client: &Client, described: &mut Described) {
    if described.roles.contains(&Role::Renderer) {
        for of in [&av_transport::DEFINITION, &rendering_control::DEFINITION] {
            let Some(service) = described.service(of) else { continue };
            let read = match &service.document {
                Some(url) => document(client, url).await.ok(),
                None => None,
            };
            let read = match read {
                Some(text) => parse(text, |text| service::read(text)).await.ok(),
                None => None,
            };
            match read {
                Some(document) => described.note_document(of, &document),
                None => described.note_no_document(of),
            }
        }
        let asked = connection_manager::Action::GetProtocolInfo;
        if let Some(answer) = call(client, described, asked).await {
            described.note_formats(answer.argument("Sink").unwrap_or_default());
        }
    }
    if described.roles.contains(&Role::Server) {
        let asked = content_directory::Action::GetSystemUpdateID;
        described.directory_answers = Some(call(client, described, asked).await.is_some());
    }
}

/// Calls an action that has no arguments.
async fn call<A: ServiceAction>(
    client: &Client,
    described: &Described,
    action: A,
) -> Option<mostra_protocol::control_point::Answer> {
    let of: &Definition = A::service();
    let service = described.service(of)?;
    let url = service.control.as_deref()?;
    let header = format!("\"{}#{}\"", of.urn(), action.row().name);
    let fields = [("Content-Type", "text/xml; charset=\"utf-8\""), ("SOAPACTION", &*header)];
    let body = write_call(action, &[]);
    let answer = client.send(Method::POST, url, &fields, body).await.ok()?;
    let (bytes, whole) = http::read(answer.bytes_stream(), DOCUMENT).await.ok()?;
    let text = whole.then(|| charset::decode(None, &bytes))??;
    parse(text, |text| read_answer(text)).await.ok()
}
