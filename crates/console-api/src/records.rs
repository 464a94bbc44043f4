//! Saved records: listed, made, checked, fetched, taken in and restored.

use std::sync::Arc;
use std::time::Duration;

use actix_web::http::StatusCode;
use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, delete, get, post, put, web};
use futures_util::StreamExt as _;
use mostra_api::{
    CheckedRecords, RecordCounts, RecordsState, RestoredRecords, SavedFolder,
    SavedRecords as ApiSaved,
};
use mostra_app::clock::ms;
use mostra_app::saved_records::{Doing, RecordFiles, Saved, SavingError};
use mostra_core::saving::SavedBecause;
use mostra_store::RowsError;
use tokio::io::AsyncWriteExt as _;
use utoipa_actix_web::service_config::ServiceConfig;

use super::configuration::{Configuration, may_come_back};
use super::problem::ApiFailure;
use super::session::{Caller, CallerOrKey};

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config
        .service(show)
        .service(save)
        .service(take_in)
        .service(fetch)
        .service(remove)
        .service(check)
        .service(restore);
}

impl From<SavingError> for ApiFailure {
    fn from(error: SavingError) -> ApiFailure {
        let (status, title) = match &error {
            SavingError::Busy => (StatusCode::CONFLICT, "Saved records are in use"),
            SavingError::Missing => (StatusCode::NOT_FOUND, "No such saved records"),
            SavingError::Room { .. } => {
                (StatusCode::INSUFFICIENT_STORAGE, "There is too little room")
            }
            SavingError::Archive(_) | SavingError::Rows(RowsError::Unfit(_)) => {
                (StatusCode::UNPROCESSABLE_ENTITY, "The file cannot be taken")
            }
            SavingError::Rows(RowsError::NoCheckRole(_)) => {
                (StatusCode::CONFLICT, "Saved records cannot be tried here")
            }
            SavingError::Rows(RowsError::Store(error)) if error.not_now().is_none() => {
                (StatusCode::UNPROCESSABLE_ENTITY, "PostgreSQL takes no such records")
            }
            _ => (StatusCode::SERVICE_UNAVAILABLE, "The records cannot be read or written"),
        };
        ApiFailure::new(status, title).why(error.to_string()).next(error.remedy())
    }
}

fn counts(rows: impl Fn(&str) -> u64) -> RecordCounts {
    RecordCounts {
        folders: rows("folder"),
        files: rows("file"),
        devices: rows("device"),
        sightings: rows("sighting"),
        accounts: rows("account"),
    }
}

fn to_api(saved: Saved) -> ApiSaved {
    let (checked, manifest) = (saved.checked, saved.manifest);
    let folders = manifest.folders.iter();
    ApiSaved {
        name: saved.name,
        made_ms: manifest.made_ms,
        bytes: saved.bytes,
        because: manifest.because.word().into(),
        house: manifest.house.clone(),
        version: manifest.version.clone(),
        holds: counts(|table| manifest.count(table)),
        folders: folders
            .map(|(label, path)| SavedFolder { label: label.clone(), path: path.clone() })
            .collect(),
        checked_ms: checked.as_ref().map(|(at, _)| ms(*at)),
        problem: checked.and_then(|(_, problem)| problem),
    }
}

#[utoipa::path(
    operation_id = "listRecords",
    summary = "Saved records, and what is being done with them",
    responses((status = 200, body = mostra_api::RecordsState))
)]
#[get("/records")]
async fn show(
    _: Caller,
    records: web::Data<RecordFiles>,
) -> Result<web::Json<RecordsState>, ApiFailure> {
    let now = records.counts().await?;
    let doing = records.doing();
    Ok(web::Json(RecordsState {
        saved: records.list().await.into_iter().map(to_api).collect(),
        now: counts(|table| now.get(table).copied().unwrap_or(0)),
        doing: doing.map(|(doing, _)| {
            match doing {
                Doing::Saving => "saving",
                Doing::Checking => "checking",
                Doing::Restoring => "restoring",
                Doing::Receiving => "receiving",
            }
            .into()
        }),
        since_ms: doing.map(|(_, since)| ms(since)),
        problem: records.problem().map(|(_, why)| why),
        restored: records.restored().map(|restored| RestoredRecords {
            name: restored.name,
            at_ms: restored.at_ms,
            problem: restored.problem,
            accounts: restored.accounts,
        }),
    }))
}

#[utoipa::path(
    operation_id = "saveRecords",
    summary = "Save the records: everything decided, proven and kept, without media",
    responses((status = 200, body = mostra_api::SavedRecords))
)]
#[post("/records")]
async fn save(
    _: Caller,
    records: web::Data<RecordFiles>,
) -> Result<web::Json<ApiSaved>, ApiFailure> {
    let records = records.into_inner();
    // Whoever stops waiting does not stop it.
    let saving = tokio::spawn(async move { records.save(SavedBecause::Asked).await });
    let saved = saving.await.map_err(|_| ApiFailure::invalid("The records were not saved"))?;
    Ok(web::Json(to_api(saved?)))
}

/// How long the next part of a file is waited for.
const STALL: Duration = Duration::from_secs(30);

#[utoipa::path(
    operation_id = "takeInRecords",
    summary = "Take in a file of saved records, to be checked or restored",
    request_body(content = Vec<u8>, content_type = "application/x-tar"),
    responses((status = 201, body = mostra_api::SavedRecords), (status = 415, description = "Something else"))
)]
#[put("/incoming-records")]
async fn take_in(
    _: Caller,
    request: HttpRequest,
    mut body: web::Payload,
    records: web::Data<RecordFiles>,
) -> Result<HttpResponse, ApiFailure> {
    let kind = request.headers().get(header::CONTENT_TYPE).and_then(|kind| kind.to_str().ok());
    if kind != Some("application/x-tar") {
        let status = StatusCode::UNSUPPORTED_MEDIA_TYPE;
        return Err(ApiFailure::new(status, "That is no file of saved records")
            .next("Send it as application/x-tar."));
    }
    let (path, turn) = records.incoming()?;
    let written = async {
        let mut file = tokio::fs::File::create(&path).await.map_err(SavingError::from)?;
        let mut since = u64::MAX;
        loop {
            let chunk = tokio::time::timeout(STALL, body.next()).await;
            let chunk = chunk.map_err(|_| ApiFailure::invalid("The file stopped coming"))?;
            let Some(chunk) = chunk else { break };
            let chunk = chunk.map_err(|error| {
                ApiFailure::invalid("The file did not come whole").why(error.to_string())
            })?;
            // Looked at now and then, as it grows.
            if since > 16 << 20 {
                records.make_sure_of_room(Some(0))?;
                since = 0;
            }
            since += chunk.len() as u64;
            file.write_all(&chunk).await.map_err(SavingError::from)?;
        }
        file.sync_all().await.map_err(SavingError::from)?;
        Ok::<_, ApiFailure>(())
    };
    if let Err(failure) = written.await {
        let _ = tokio::fs::remove_file(&path).await;
        return Err(failure);
    }
    let saved = records.take_in(path).await?;
    drop(turn);
    Ok(HttpResponse::Created().json(to_api(saved)))
}

#[utoipa::path(
    operation_id = "fetchRecords",
    summary = "A file of saved records, to be kept elsewhere",
    responses((status = 200, content_type = "application/x-tar", body = Vec<u8>))
)]
#[get("/records/{name}/file")]
async fn fetch(
    _: CallerOrKey,
    name: web::Path<String>,
    records: web::Data<RecordFiles>,
) -> Result<HttpResponse, ApiFailure> {
    let path = records.path(&name)?;
    let file = tokio::fs::File::open(path).await.map_err(SavingError::from)?;
    let length = file.metadata().await.map_err(SavingError::from)?.len();
    let bytes = futures_util::stream::unfold(file, |mut file| async move {
        use tokio::io::AsyncReadExt as _;
        let mut buffer = bytes::BytesMut::with_capacity(256 << 10);
        match file.read_buf(&mut buffer).await {
            Ok(0) => None,
            Ok(_) => Some((Ok(buffer.freeze()), file)),
            Err(error) => Some((Err(error), file)),
        }
    });
    Ok(HttpResponse::Ok()
        .content_type("application/x-tar")
        .insert_header((header::CONTENT_DISPOSITION, format!("attachment; filename=\"{name}\"")))
        .body(actix_web::body::SizedStream::new(length, bytes)))
}

#[utoipa::path(
    operation_id = "removeRecords",
    summary = "Remove a file of saved records",
    responses((status = 204))
)]
#[delete("/records/{name}")]
async fn remove(
    _: Caller,
    name: web::Path<String>,
    records: web::Data<RecordFiles>,
) -> Result<HttpResponse, ApiFailure> {
    records.remove(&name)?;
    Ok(HttpResponse::NoContent().finish())
}

#[utoipa::path(
    operation_id = "checkRecords",
    summary = "Try a file out in a database of its own, and compare what came with what was saved",
    responses((status = 200, body = mostra_api::CheckedRecords))
)]
#[post("/records/{name}/check")]
async fn check(
    _: Caller,
    name: web::Path<String>,
    records: web::Data<RecordFiles>,
) -> Result<web::Json<CheckedRecords>, ApiFailure> {
    let (records, name) = (records.into_inner(), name.into_inner());
    let (checker, of) = (records.clone(), name.clone());
    let checking = tokio::spawn(async move { checker.check(&of).await });
    let accounts =
        checking.await.map_err(|_| ApiFailure::invalid("The file was not checked"))??;
    let saved = to_api(records.get(&name).await?);
    Ok(web::Json(CheckedRecords { saved, accounts }))
}

#[utoipa::path(
    operation_id = "restoreRecords",
    summary = "Put the records of a file in the place of those that are here; the service restarts",
    responses((status = 202, body = mostra_api::CheckedRecords))
)]
#[post("/records/{name}/restore")]
async fn restore(
    _: Caller,
    name: web::Path<String>,
    records: web::Data<RecordFiles>,
    config: web::Data<dyn Configuration>,
) -> Result<HttpResponse, ApiFailure> {
    let records: Arc<RecordFiles> = records.into_inner();
    let saved = records.get(&name).await?;
    may_come_back(&**config).await?;
    let config = config.into_inner();
    let preparing = tokio::spawn(async move {
        let accounts = records.prepare_restore(&name).await?;
        // The answer goes out first.
        tokio::spawn(async move {
            tokio::time::sleep(Duration::from_millis(200)).await;
            config.restart();
        });
        Ok::<_, SavingError>(accounts)
    });
    let prepared = preparing.await;
    let accounts = prepared.map_err(|_| ApiFailure::invalid("The records were not restored"))??;
    Ok(HttpResponse::Accepted().json(CheckedRecords { saved: to_api(saved), accounts }))
}
