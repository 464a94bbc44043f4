//! Media: GET and HEAD with ranges and the DLNA fields (requirements 9).

use actix_http::ConnectionType;
use actix_web::dev::RequestHead;
use actix_web::http::header::{self, HeaderMap, HeaderName};
use actix_web::http::{Method, StatusCode, Version};
use actix_web::{HttpRequest, HttpResponse, web};
use mostra_core::access::Decision;
use mostra_core::catalogue::Node;
use mostra_core::present;
use mostra_protocol::dlna::{ProtocolInfo, TransferMode};
use mostra_protocol::npt;

use super::gate::{Asker, named};
use super::pictures;
use super::straight::STALL;
use crate::file_body::{self, FileBody, Piece};
use crate::house::House;
use crate::ranged::{self, Fields, put};
use crate::sightings::Fact;
use crate::stations::NotHeard;
use crate::transfers::Load;

pub fn routes(config: &mut web::ServiceConfig) {
    let resource = web::resource("/media/{name}")
        .route(web::get().to(media))
        .route(web::head().to(media))
        .default_service(web::to(|| async {
            HttpResponse::MethodNotAllowed().insert_header((header::ALLOW, "GET, HEAD")).finish()
        }));
    config.service(resource);
}

async fn media(
    request: HttpRequest,
    name: web::Path<String>,
    house: web::Data<House>,
) -> HttpResponse {
    let Some(asker) = Asker::of(&request) else { return HttpResponse::Forbidden().finish() };
    if let Some(webvtt) = asks_subtitles(&name) {
        return pictures::subtitles(request, present::media_id(&name), webvtt, house).await;
    }
    let Plan { status, fields, body } = plan(&house, &asker, request.head(), &name).await;
    let mut answer = HttpResponse::build(status);
    for field in fields {
        answer.insert_header(field);
    }
    match body {
        Body::Nothing => answer.finish(),
        Body::Piece(piece) => {
            // Whoever watches may pause (HTTP-30).
            asker.limit(STALL);
            answer.body(FileBody::new(piece))
        }
        // HEAD opens no source, and names no length either (HTTP-1).
        Body::Station { .. } if request.method() == Method::HEAD => {
            let nothing = futures_util::stream::empty::<std::io::Result<bytes::Bytes>>();
            answer.streaming(nothing)
        }
        Body::Station { address, mime, load } => {
            let stations = house.settings().stations;
            let begin = || Some(asker.watch(&house, load, u64::MAX));
            match house.stations.pass_on(&address, &stations, Some(&mime), answer, begin).await {
                Ok(mut answer) => {
                    // Of unknown length: for those who know no chunks, or take their sizes for
                    // sound, it ends with the connection (HTTP-33, HTTP-34).
                    let by_trait = asker.met.traits.ends_by_close == Some(true);
                    if by_trait || request.version() < Version::HTTP_11 {
                        answer.head_mut().no_chunking(true);
                        answer.head_mut().set_connection_type(ConnectionType::Close);
                    }
                    answer
                }
                Err(NotHeard::Forbidden) => HttpResponse::NotFound().finish(),
                Err(why) => {
                    tracing::info!("{address:?} is not heard: {why}");
                    HttpResponse::ServiceUnavailable()
                        .insert_header((header::RETRY_AFTER, "5"))
                        .finish()
                }
            }
        }
    }
}

/// Whether a name asks for the subtitles of a film, and whether as WebVTT.
pub fn asks_subtitles(name: &str) -> Option<bool> {
    match name.rsplit_once('.')?.1 {
        "srt" => Some(false),
        "vtt" => Some(true),
        _ => None,
    }
}

/// How a request for media is answered.
pub struct Plan {
    /// The status.
    pub status: StatusCode,
    /// Fields beside those that every answer has.
    pub fields: Fields,
    /// What is sent.
    pub body: Body,
}

/// What is sent.
pub enum Body {
    /// No body.
    Nothing,
    /// Bytes of a file; on HEAD only their number counts.
    Piece(Piece),
    /// A broadcast.
    Station {
        /// Where it comes from.
        address: String,
        /// Its type as listed, which HEAD says as well (HTTP-2).
        mime: String,
        /// What it is, to be watched like any other stream.
        load: Load,
    },
}

impl Plan {
    fn bare(status: StatusCode) -> Plan {
        Plan { status, fields: Vec::new(), body: Body::Nothing }
    }

    fn busy(seconds: u64) -> Plan {
        let mut plan = Plan::bare(StatusCode::SERVICE_UNAVAILABLE);
        plan.put(header::RETRY_AFTER, &seconds.to_string());
        plan
    }

    fn put(&mut self, name: HeaderName, value: &str) {
        put(&mut self.fields, name, value);
    }
}

/// Decides how a request for media is answered, and opens the file for it.
pub async fn plan(house: &House, asker: &Asker, request: &RequestHead, name: &str) -> Plan {
    // A device that is not let in learns nothing, also by a URL it knew (CDS-53).
    let Decision::Admitted(pass) = &asker.met.decision else {
        let fact = Fact::Denied("asked for a file");
        house.sightings.note(asker.met.device, house.clock.now(), fact);
        return Plan::bare(StatusCode::FORBIDDEN);
    };
    let missing = || Plan::bare(StatusCode::NOT_FOUND);
    let catalogue = house.catalogue();
    let id = present::media_id(name);
    let Some(object) = catalogue.object(pass, id) else { return missing() };
    let Node::Item(item) = &object.node else { return missing() };
    let Some(located) = catalogue.locate(pass, id) else { return missing() };
    let info = present::original_info(item, &asker.met.traits);
    let load = |from| Load::Media {
        file: item.serial,
        folder: item.folder,
        title: object.title.clone(),
        facts: item.facts.clone().into(),
        from,
    };
    // A person ended this stream; players come back at once.
    let now = house.clock.now();
    let kept_from = house.streams().kept_from(now, asker.met.device, item.serial);
    if let Some(left) = kept_from {
        return Plan::busy(left.as_secs() + 1);
    }
    let headers = &request.headers;
    let mut plan = Plan::bare(StatusCode::OK);
    if let Err(status) = dlna_fields(headers, &info, &mut plan.fields) {
        return Plan::bare(status);
    }
    plan.put(header::CONTENT_TYPE, &info.mime);
    if let (Some(field), Some(caption)) =
        (&asker.met.traits.caption_field, item.facts.captions.first())
    {
        let asked = |name: &String| named(headers, &name.to_ascii_lowercase()).is_some();
        let name = HeaderName::from_bytes(field.answer.as_bytes());
        if let (true, Ok(name)) = (field.asked.as_ref().is_none_or(asked), name) {
            let original = item.reference.as_deref().unwrap_or(id);
            let path = present::caption_path(original, 0, caption.webvtt);
            plan.put(name, &format!("{}{path}", asker.base));
        }
    }
    if let Some(address) = &item.facts.station {
        // Range means nothing here (HTTP-15).
        plan.put(header::ACCEPT_RANGES, "none");
        plan.put(HeaderName::from_static("realtimeinfo.dlna.org"), "DLNA.ORG_TLAG=*");
        let address = address.clone();
        plan.body = Body::Station { address, mime: info.mime, load: load(0) };
        return plan;
    }
    let opened = match file_body::open(&house.lanes, located).await {
        Ok(opened) => opened,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return missing(),
        Err(_) => return Plan::busy(5),
    };
    let size = opened.metadata.len();
    let validators = file_body::validators(&opened.metadata);
    let head_range = asker.met.traits.head_range == Some(true);
    let answered = ranged::answer(request, size, &validators, head_range, &mut plan.fields);
    plan.status = answered.status;
    let Some((first, length)) = answered.piece else { return plan };
    let head = request.method == Method::HEAD;
    let transfer = (!head).then(|| asker.watch(house, load(first), length));
    plan.body = Body::Piece(Piece { opened, first, length, transfer });
    plan
}

/// The DLNA fields of the answer (HTTP-17 to HTTP-22), of whatever is sent to a device.
///
/// # Errors
/// The status for what the resource cannot do, or for what is no such field.
pub fn dlna_fields(
    headers: &HeaderMap,
    info: &ProtocolInfo,
    fields: &mut Fields,
) -> Result<(), StatusCode> {
    if let Some(range) = named(headers, "timeseekrange.dlna.org") {
        // Nothing that is sent can be sought by time (HTTP-24); what is no time says so first
        // (HTTP-27).
        return Err(match npt::read(range) {
            Some(_) => StatusCode::NOT_ACCEPTABLE,
            None => StatusCode::BAD_REQUEST,
        });
    }
    if named(headers, "playspeed.dlna.org").is_some_and(|speed| speed.trim() != "speed=1") {
        return Err(StatusCode::NOT_ACCEPTABLE);
    }
    let mode = TransferMode::choose(named(headers, "transfermode.dlna.org"), info.flags)
        .map_err(|status| StatusCode::from_u16(status).unwrap_or(StatusCode::BAD_REQUEST))?;
    put(fields, HeaderName::from_static("transfermode.dlna.org"), mode.word());
    match named(headers, "getcontentfeatures.dlna.org").map(str::trim) {
        None => {}
        Some("1") => {
            put(fields, HeaderName::from_static("contentfeatures.dlna.org"), &info.features());
        }
        Some(_) => return Err(StatusCode::BAD_REQUEST),
    }
    Ok(())
}
