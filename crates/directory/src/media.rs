//! Media, pictures and subtitles: GET and HEAD with ranges and the DLNA fields.

use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::io;

use actix_http::ConnectionType;
use actix_web::body::SizedStream;
use actix_web::dev::RequestHead;
use actix_web::http::header::{self, HeaderName, HeaderValue};
use actix_web::http::{Method, StatusCode, Version};
use actix_web::{HttpRequest, HttpResponse, HttpResponseBuilder, web};
use bytes::Bytes;
use mostra_app::Clock;
use mostra_app::devices::Devices;
use mostra_app::library::Library;
use mostra_app::library::files::ResourcePart;
use mostra_app::library::stations::NotHeard;
use mostra_app::streams::{Load, Media, Streams, Transfer};
use mostra_core::access::{Decision, Pass};
use mostra_core::catalogue::{ItemView, Located, Node};
use mostra_core::delivery::{self, Delivery, ResourceRequest};
use mostra_core::playback::Layout;
use mostra_core::present;
use mostra_core::resource::{Length, Resource, ResourceId, Source};
use mostra_core::sighting::{Act, Attempt};
use mostra_core::station::Address;
use mostra_media::subtitle;
use mostra_protocol::server::conditions::Validators;

use super::gate::{Requester, named};
use super::sendfile::STALL;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    for path in ["/media/{name}", "/samples/{name}", "/art/{name}", "/captions/{name}"] {
        let resource = web::resource(path)
            .route(web::get().to(media))
            .route(web::head().to(media))
            .default_service(web::to(|| async {
                HttpResponse::MethodNotAllowed()
                    .insert_header((header::ALLOW, "GET, HEAD"))
                    .finish()
            }));
        config.service(resource);
    }
}

async fn media(
    request: HttpRequest,
    name: web::Path<String>,
    clock: web::Data<Clock>,
    devices: web::Data<Devices>,
    library: web::Data<Library>,
    streams: web::Data<Streams>,
) -> HttpResponse {
    let Some(requester) = Requester::of(&request) else {
        return HttpResponse::Forbidden().finish();
    };
    let planner =
        Planner { clock: &clock, devices: &devices, library: &library, streams: &streams };
    // With what was percent-encoded decoded, once (HTTP-8).
    let directory = request.path().split('/').nth(1).unwrap_or_default();
    let path = format!("/{directory}/{name}");
    let Plan { delivery, body } = planner.plan(&requester, request.head(), &path).await;
    let answer = answer_of(&delivery);
    match body {
        MediaBody::Nothing => finish(answer),
        MediaBody::Made(bytes) => respond(answer, bytes),
        MediaBody::ResourcePart(piece) => {
            // Whoever watches may pause (HTTP-30).
            requester.may_pause(STALL);
            let length = piece.length;
            respond(answer, SizedStream::new(length, Box::pin(piece.chunks())))
        }
        // HEAD opens no source, and names no length either (HTTP-1).
        MediaBody::Station { .. } if request.method() == Method::HEAD => {
            streamed(answer, futures_util::stream::empty())
        }
        MediaBody::Station { address, load } => {
            let heard = library.stations.hear(&address, &library.allowed_stations()).await;
            match heard {
                Ok(broadcast) => {
                    let watched = WatchedBody(requester.watch(&streams, load, u64::MAX));
                    let mut answer = streamed(answer, broadcast.sound(watched));
                    // Of unknown length: for those who know no chunks, or take their sizes for
                    // sound, it ends with the connection (HTTP-33, HTTP-34).
                    let by_trait = requester.device.traits.ends_by_close == Some(true);
                    if by_trait || request.version() < Version::HTTP_11 {
                        answer.head_mut().no_chunking(true);
                        answer.head_mut().set_connection_type(ConnectionType::Close);
                    }
                    answer
                }
                Err(NotHeard::Forbidden) => HttpResponse::NotFound().finish(),
                Err(why) => {
                    // The rest of an address may hold a secret of the household's.
                    let host = Address::parse(&address).map(|address| address.host().to_owned());
                    tracing::info!(
                        "the station at {} is not heard: {why}",
                        host.unwrap_or_default()
                    );
                    finish(answer_of(&Delivery::busy(5)))
                }
            }
        }
    }
}

/// A broadcast's transfer, which is over when nobody listens any more.
struct WatchedBody(std::sync::Arc<Transfer>);

impl Drop for WatchedBody {
    fn drop(&mut self) {
        self.0.drop_rest();
    }
}

fn answer_of(delivery: &Delivery) -> HttpResponseBuilder {
    let mut answer = HttpResponse::build(status(delivery));
    for field in fields(delivery) {
        answer.insert_header(field);
    }
    answer
}

fn finish(mut answer: HttpResponseBuilder) -> HttpResponse {
    answer.finish()
}

fn respond(
    mut answer: HttpResponseBuilder,
    body: impl actix_web::body::MessageBody + 'static,
) -> HttpResponse {
    answer.body(body)
}

fn streamed(
    mut answer: HttpResponseBuilder,
    pieces: impl futures_util::Stream<Item = io::Result<Bytes>> + 'static,
) -> HttpResponse {
    answer.streaming(Box::pin(pieces))
}

/// The status of a planned answer.
pub(crate) fn status(delivery: &Delivery) -> StatusCode {
    StatusCode::from_u16(delivery.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
}

/// The fields of a planned answer; what cannot stand in one is left out (SEC-17).
pub(crate) fn fields(delivery: &Delivery) -> impl Iterator<Item = (HeaderName, HeaderValue)> {
    delivery.fields.iter().filter_map(|(name, value)| {
        Some((HeaderName::try_from(&**name).ok()?, HeaderValue::from_str(value).ok()?))
    })
}

/// Seconds after which a player may ask again while the catalogue is being loaded (HTTP-5).
pub(crate) const LOADING: u64 = 1;

/// How a request for a resource is answered.
pub(crate) struct Plan {
    /// Status and fields.
    pub delivery: Delivery,
    /// What is sent.
    pub body: MediaBody,
}

/// What is sent.
pub(crate) enum MediaBody {
    /// No body.
    Nothing,
    /// Bytes of a file; on HEAD only their number counts.
    ResourcePart(ResourcePart),
    /// Bytes that were made.
    Made(Bytes),
    /// A broadcast.
    Station {
        /// Where it comes from.
        address: String,
        /// What it is, to be watched like any other stream.
        load: Load,
    },
}

impl From<Delivery> for Plan {
    fn from(delivery: Delivery) -> Plan {
        Plan { delivery, body: MediaBody::Nothing }
    }
}

/// What a path of ours stands for, for one device.
struct LocatedResource {
    /// The object's id as asked for.
    id: String,
    item: ItemView,
    title: String,
    located: Located,
    resource: Resource,
}

/// Plans answers from what the house has.
pub(crate) struct Planner<'a> {
    /// The clock.
    pub clock: &'a Clock,
    /// Who is told what was asked for.
    pub devices: &'a Devices,
    /// What there is.
    pub library: &'a Library,
    /// What is on its way.
    pub streams: &'a Streams,
}

impl Planner<'_> {
    /// Decides how a request is answered, and opens what is needed for it.
    pub(crate) async fn plan(
        &self,
        requester: &Requester,
        request: &RequestHead,
        path: &str,
    ) -> Plan {
        let plan = self.decide(requester, request, path).await;
        let status = plan.delivery.status;
        if status >= 400 && matches!(requester.device.decision, Decision::Admitted(_)) {
            self.devices.report(&requester.device, Act::Refused { status });
        }
        plan
    }

    async fn decide(&self, requester: &Requester, request: &RequestHead, path: &str) -> Plan {
        // A device that is not let in learns nothing, also by a URL it knew (CDS-53).
        let Decision::Admitted(pass) = &requester.device.decision else {
            let act = Act::Denied { attempt: Attempt::File };
            self.devices.report(&requester.device, act);
            return Delivery::bare(403).into();
        };
        let Some(found) = self.find(requester, pass, path) else {
            // What is not known yet may be there.
            let loaded = self.library.shared().is_loaded();
            return if loaded { Delivery::bare(404) } else { Delivery::busy(LOADING) }.into();
        };
        let traits = &requester.device.traits;
        let field = |name: &str| named(&request.headers, name);
        let head = request.method == Method::HEAD;
        let asked =
            ResourceRequest { head, head_range: traits.head_range == Some(true), field: &field };
        match found.resource.source.clone() {
            Source::Station { address } => {
                if let Some(busy) = self.kept_from(requester, &found) {
                    return busy.into();
                }
                let delivery = delivery::to_device(asked, &found.resource, None);
                match delivery.span {
                    None => delivery.into(),
                    Some(_) => {
                        let body = MediaBody::Station { address, load: found.load(0) };
                        Plan { delivery, body }
                    }
                }
            }
            Source::File | Source::Samples(_) => {
                if let Some(busy) = self.kept_from(requester, &found) {
                    return busy.into();
                }
                self.file(requester, asked, found).await
            }
            Source::Picture(size) => {
                let LocatedResource { item, located, resource, .. } = found;
                let files = &self.library.files;
                match self.library.pictures.of(files, &item, located, size).await {
                    Ok(Some(jpeg)) => made(asked, resource, jpeg),
                    Ok(None) => Delivery::bare(404).into(),
                    Err(_) => Delivery::busy(5).into(),
                }
            }
            Source::Captions { number, webvtt } => {
                let LocatedResource { item, located, resource, .. } = found;
                let Some(caption) = item.facts.captions.get(number) else {
                    return Delivery::bare(404).into();
                };
                let beside = located.beside(&caption.name);
                match self.library.files.read_small(beside, subtitle::BYTES).await {
                    Ok(bytes) => {
                        let text = subtitle::as_form(&bytes, caption.webvtt, webvtt);
                        made(asked, resource, text.into())
                    }
                    Err(error) => unreadable(&error).into(),
                }
            }
        }
    }

    fn find(&self, requester: &Requester, pass: &Pass, path: &str) -> Option<LocatedResource> {
        let (id, wanted) = present::wanted(path)?;
        let catalogue = self.library.catalogue();
        let object = catalogue.object(pass, id)?;
        let Node::Item(item) = object.node else { return None };
        let located = catalogue.locate(pass, id)?;
        let resource = present::resource(&item, wanted, &requester.device.traits)?;
        Some(LocatedResource {
            id: id.to_owned(),
            item: *item,
            title: object.title,
            located,
            resource,
        })
    }

    /// A person ended this stream; players come back at once.
    fn kept_from(&self, requester: &Requester, found: &LocatedResource) -> Option<Delivery> {
        let (now, device) = (self.clock.now(), requester.device.device);
        let left = self.streams.book().kept_from(now, device, found.resource_id())?;
        Some(Delivery::busy(left.as_secs() + 1))
    }

    async fn file(
        &self,
        requester: &Requester,
        asked: ResourceRequest<'_>,
        found: LocatedResource,
    ) -> Plan {
        let located = found.located.clone();
        let opened = match self.library.files.open(located).await {
            Ok(opened) => opened,
            Err(error) => return unreadable(&error).into(),
        };
        let size = opened.metadata.len();
        let (length, begin, swapped) = match &found.resource.source {
            // Where they lie is only known of the file that was read.
            Source::Samples(_) if size != found.item.facts.size => return Delivery::busy(5).into(),
            Source::Samples(samples) => (samples.length, samples.first, samples.swapped),
            _ => (size, 0, false),
        };
        let resource = Resource { length: Length::Known(length), ..found.resource.clone() };
        let mut delivery = delivery::to_device(asked, &resource, Some(&opened.validators()));
        let asks = |name: &str| (asked.field)(name).is_some();
        let (traits, base) = (&requester.device.traits, &requester.base);
        let captions = present::caption_field(&found.item, &found.id, traits, base, asks);
        delivery.fields.extend(captions.map(|(name, value)| (name.into(), value)));
        let Some((first, length)) = delivery.bytes() else { return delivery.into() };
        let watch = || requester.watch(self.streams, found.load(first), length);
        let transfer = (!asked.head).then(watch);
        let first = begin + first;
        let part = ResourcePart { opened, first, length, swapped, transfer };
        Plan { delivery, body: MediaBody::ResourcePart(part) }
    }
}

impl LocatedResource {
    fn resource_id(&self) -> ResourceId {
        ResourceId { file: self.item.serial, form: self.resource.source.form() }
    }

    fn load(&self, from: u64) -> Load {
        let facts = &self.item.facts;
        Load::Media(Media {
            resource: self.resource_id(),
            folder: self.item.folder,
            title: self.title.clone(),
            format: self.resource.info.mime.clone().into_owned(),
            layout: Layout::of_resource(facts, &self.resource),
            size: self.resource.length.known().unwrap_or(facts.size),
            duration_ms: facts.duration_ms,
            broadcast: facts.station.is_some(),
            from,
        })
    }
}

fn unreadable(error: &io::Error) -> Delivery {
    match error.kind() {
        io::ErrorKind::NotFound => Delivery::bare(404),
        _ => Delivery::busy(5),
    }
}

/// The answer with something that was made, whole in memory.
fn made(asked: ResourceRequest<'_>, resource: Resource, bytes: Bytes) -> Plan {
    let resource = Resource { length: Length::Known(bytes.len() as u64), ..resource };
    let delivery = delivery::to_device(asked, &resource, Some(&state_of(&bytes)));
    match delivery.bytes() {
        // Both lie within the bytes, which are in memory.
        Some((first, length)) => {
            let body = MediaBody::Made(bytes.slice(first as usize..(first + length) as usize));
            Plan { delivery, body }
        }
        None => delivery.into(),
    }
}

/// What tells one state of something made from another: its bytes.
fn state_of(bytes: &[u8]) -> Validators {
    let mut hasher = DefaultHasher::new();
    bytes.hash(&mut hasher);
    Validators { etag: format!("\"{:x}-{:x}\"", bytes.len(), hasher.finish()), modified: None }
}
