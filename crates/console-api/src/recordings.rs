//! Recorded conversations of devices with this house.

use actix_web::http::{StatusCode, header};
use actix_web::{HttpResponse, delete, get, post, web};
use mostra_api::{Conversation, ConversationEntry, NewRecording, Recording};
use mostra_app::clock::ms;
use mostra_app::devices::Devices;
use mostra_app::devices::recordings::{self, LONGEST, RecordingError, RecordingFile};
use mostra_app::network::Network;
use mostra_core::conversation::in_words;
use mostra_core::ids::DeviceId;
use mostra_protocol::model::conversation::{Entry, Exchange};
use mostra_protocol::model::text::{TITLE, tamed};
use serde::Deserialize;
use std::time::Duration;
use utoipa::IntoParams;
use utoipa_actix_web::service_config::ServiceConfig;

use super::body::JsonBody;
use super::problem::ApiFailure;
use super::session::{Caller, CallerOrKey};

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config
        .service(list)
        .service(begin)
        .service(end)
        .service(read)
        .service(download)
        .service(remove);
}

fn to_api(file: RecordingFile) -> Recording {
    let RecordingFile { name, from, until, bytes } = file;
    Recording { name, from_ms: ms(from), until_ms: until.map(ms), bytes }
}

fn failed(error: RecordingError) -> ApiFailure {
    let (status, next) = match &error {
        RecordingError::Runs | RecordingError::TooMany => {
            (StatusCode::CONFLICT, "`mostra recording stop DEVICE` ends one before its time.")
        }
        RecordingError::Missing => {
            (StatusCode::NOT_FOUND, "`mostra device recordings DEVICE` lists those there are.")
        }
        RecordingError::Io(_) => {
            (StatusCode::INTERNAL_SERVER_ERROR, "Is there room on the disk of the service's data?")
        }
    };
    ApiFailure::new(status, "The recording does not work").why(format!("{error}.")).next(next)
}

/// File names and drives may be slow: they are asked on a thread for that.
async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, RecordingError> + Send + 'static,
) -> Result<T, ApiFailure> {
    let done = tokio::task::spawn_blocking(work).await;
    done.map_err(|error| failed(RecordingError::Io(std::io::Error::other(error))))?.map_err(failed)
}

#[utoipa::path(
    operation_id = "listRecordings",
    summary = "The recorded conversations of a device, the latest first",
    responses((status = 200, body = Vec<mostra_api::Recording>))
)]
#[get("/devices/{id}/recordings")]
async fn list(
    _: Caller,
    id: web::Path<u32>,
    devices: web::Data<Devices>,
) -> Result<web::Json<Vec<Recording>>, ApiFailure> {
    let files = blocking(move || Ok(devices.recordings.of(DeviceId(*id)))).await?;
    Ok(web::Json(files.into_iter().map(to_api).collect()))
}

#[utoipa::path(
    operation_id = "beginRecording",
    summary = "Record the conversation of a device with this house for a while",
    request_body = mostra_api::NewRecording,
    responses((status = 200, body = mostra_api::Recording))
)]
#[post("/devices/{id}/recordings")]
async fn begin(
    caller: Caller,
    id: web::Path<u32>,
    body: JsonBody<NewRecording>,
    devices: web::Data<Devices>,
    network: web::Data<Network>,
) -> Result<web::Json<Recording>, ApiFailure> {
    let minutes = body.0.minutes;
    let most = LONGEST.as_secs() / 60;
    if minutes == 0 || u64::from(minutes) > most {
        return Err(ApiFailure::invalid("That length does not work")
            .why(format!("It is {minutes} minutes."))
            .next(format!("Give 1 to {most} minutes.")));
    }
    let id = DeviceId(*id);
    let length = Duration::from_secs(u64::from(minutes) * 60);
    let (of, server) = (devices.clone(), network.name());
    let name = blocking(move || of.record(id, &server, length)).await?;
    tracing::info!(who = caller.0.account(), device = id.0, minutes, "recording");
    let file = devices.recordings.of(id).into_iter().find(|file| file.name == name);
    Ok(web::Json(to_api(file.ok_or_else(|| failed(RecordingError::Missing))?)))
}

#[utoipa::path(
    operation_id = "endRecording",
    summary = "End the recording of a device before its time",
    responses((status = 200, body = Vec<mostra_api::Recording>))
)]
#[delete("/devices/{id}/recording")]
async fn end(
    _: Caller,
    id: web::Path<u32>,
    devices: web::Data<Devices>,
) -> Result<web::Json<Vec<Recording>>, ApiFailure> {
    let id = DeviceId(*id);
    if !devices.recordings.end(id) {
        return Err(ApiFailure::new(StatusCode::CONFLICT, "Nothing is recorded of it now"));
    }
    devices.tell();
    Ok(web::Json(devices.recordings.of(id).into_iter().map(to_api).collect()))
}

/// Entries of a page.
const PAGE: usize = 200;

/// Which part of a recording.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
struct Part {
    /// How many entries come before.
    #[serde(default)]
    skip: usize,
}

#[utoipa::path(
    operation_id = "readRecording",
    summary = "What was said, 200 entries at a time",
    params(Part),
    responses((status = 200, body = mostra_api::Conversation))
)]
#[get("/devices/{id}/recordings/{name}")]
async fn read(
    _: Caller,
    path: web::Path<(u32, String)>,
    part: web::Query<Part>,
    devices: web::Data<Devices>,
) -> Result<web::Json<Conversation>, ApiFailure> {
    let (id, name) = path.into_inner();
    let skip = part.skip;
    let (heading, mut entries) = blocking(move || {
        recordings::read(&devices.recordings.path(DeviceId(id), &name)?, skip, PAGE + 1)
    })
    .await?;
    let more = entries.len() > PAGE;
    entries.truncate(PAGE);
    let numbered = entries.iter().enumerate();
    let entries = numbered.map(|(at, entry)| shown((skip + at) as u64, entry)).collect();
    Ok(web::Json(Conversation {
        device: heading.device,
        server: heading.server,
        from_ms: heading.from_ms,
        entries,
        more,
    }))
}

fn shown(number: u64, entry: &Entry) -> ConversationEntry {
    let words = in_words(entry);
    let (raw, raw_answer) = match entry {
        Entry::Heard(datagram) | Entry::Sent(datagram) => (shown_text(&datagram.text), None),
        Entry::Request(exchange) | Entry::Event(exchange) => raw(exchange),
        Entry::Left { .. } => (String::new(), None),
    };
    ConversationEntry {
        number,
        at_ms: words.at_ms,
        by_device: words.by_device,
        said: tamed(words.said, TITLE),
        answered: words.answered.map(|words| tamed(words, TITLE)),
        failed: words.failed,
        raw,
        raw_answer,
    }
}

/// A text with its lines and without what a terminal would act on (SEC-16). The file keeps it as it
/// was said.
fn shown_text(text: &str) -> String {
    let shown = |c: char| match c {
        '\n' | '\t' => Some(c),
        '\r' => None,
        c if c.is_control() => Some('\u{fffd}'),
        c => Some(c),
    };
    text.chars().filter_map(shown).collect()
}

fn raw(exchange: &Exchange) -> (String, Option<String>) {
    let lines = |fields: &[(String, String)]| -> String {
        fields.iter().map(|(name, value)| format!("{name}: {value}\n")).collect()
    };
    let Exchange { method, target, fields, body, status, answer_fields, answer, .. } = exchange;
    let sent = format!("{method} {target}\n{}\n{body}", lines(fields));
    let came = (*status != 0).then(|| format!("{status}\n{}\n{answer}", lines(answer_fields)));
    (shown_text(&sent), came.map(|text| shown_text(&text)))
}

#[utoipa::path(
    operation_id = "downloadRecording",
    summary = "A recording as it is, one JSON value a line",
    responses((status = 200, content_type = "application/jsonl"))
)]
#[get("/devices/{id}/recordings/{name}/file")]
async fn download(
    _: CallerOrKey,
    path: web::Path<(u32, String)>,
    devices: web::Data<Devices>,
) -> Result<HttpResponse, ApiFailure> {
    let (id, name) = path.into_inner();
    let shown = format!("attachment; filename=\"conversation-{name}\"");
    let bytes =
        blocking(move || Ok(std::fs::read(devices.recordings.path(DeviceId(id), &name)?)?)).await?;
    Ok(HttpResponse::Ok()
        .insert_header((header::CONTENT_TYPE, "application/jsonl"))
        .insert_header((header::CONTENT_DISPOSITION, shown))
        .body(bytes))
}

#[utoipa::path(
    operation_id = "removeRecording",
    summary = "Remove a recording",
    responses((status = 204))
)]
#[delete("/devices/{id}/recordings/{name}")]
async fn remove(
    _: Caller,
    path: web::Path<(u32, String)>,
    devices: web::Data<Devices>,
) -> Result<HttpResponse, ApiFailure> {
    let (id, name) = path.into_inner();
    let of = devices.clone();
    blocking(move || of.recordings.remove(DeviceId(id), &name)).await?;
    devices.tell();
    Ok(HttpResponse::NoContent().finish())
}

#[cfg(test)]
mod tests {
    use super::*;
    use mostra_protocol::model::conversation::RecordedDatagram;

    #[test]
    fn what_a_device_said_is_shown_without_what_a_terminal_acts_on() {
        let peer = std::net::SocketAddrV4::new(std::net::Ipv4Addr::LOCALHOST, 9);
        let text = "M-SEARCH * HTTP/1.1\r\nMAN: \"ssdp:discover\"\r\nST: a:\u{1b}[2J\r\n\r\n";
        let entry = shown(0, &Entry::Heard(RecordedDatagram { at_ms: 1, peer, text: text.into() }));
        let clean = |text: &str| !text.chars().any(|c| c.is_control() && c != '\n' && c != '\t');
        assert!(clean(&entry.raw) && entry.raw.contains("\nST: a:\u{fffd}[2J"), "{}", entry.raw);
        let exchange = Exchange {
            target: "/\u{7}".into(),
            method: "GET".into(),
            status: 200,
            answer: "\u{1b}]0;x".into(),
            ..Exchange::default()
        };
        let entry = shown(1, &Entry::Request(exchange));
        assert!(clean(&entry.said) && clean(&entry.raw), "{entry:?}");
        assert!(clean(entry.raw_answer.as_deref().unwrap()), "{entry:?}");
    }
}
