//! Publishing folders.

use actix_web::{HttpResponse, delete, get, post, put, web};
use mostra_api::{
    Excluded, Folder as ApiFolder, FolderMove, FollowedLinks, KindCounts, LeftOut, LeftOutList,
    LinkChoice, NewFolder, Place, Places, Rescan, Scan, ScanChange, ScanReport, ScanReports,
    ScanState,
};
use mostra_app::clock::ms;
use mostra_app::library::scan::{FolderState, Noticed};
use mostra_app::library::{Library, places};
use mostra_core::catalogue::Folder;
use mostra_core::format::FileClass;
use mostra_core::ids::FolderId;
use mostra_core::link_rule::LinkRule;
use mostra_core::{Kind, Kinds, KindsError};
use serde::Deserialize;
use utoipa_actix_web::service_config::ServiceConfig;

use super::body::{JsonBody, OptionalJsonBody};
use super::problem::ApiFailure;
use super::session::Caller;

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config
        .service(list)
        .service(add)
        .service(show)
        .service(remove)
        .service(rescan)
        .service(move_to)
        .service(stop_scan)
        .service(left_out)
        .service(reports)
        .service(exclude)
        .service(set_links)
        .service(pick);
}

fn to_api(library: &Library, folder: &Folder) -> ApiFolder {
    let [video, music, picture] = library.catalogue().folder_counts(folder.serial);
    let known = library.scans.known(folder.serial);
    let scan = match (&known.running, &known.problem) {
        (Some(progress), _) => progress.now().map(|now| Scan {
            state: ScanState::Running,
            done: now.done,
            to_do: now.to_do,
            listed: now.listed,
            left_out: now.left_out,
            rate: (now.rate * 10.0).round() / 10.0,
            remaining_ms: now.remaining_ms,
            problem: None,
        }),
        (None, Some(problem)) => Some(Scan {
            state: ScanState::Failed,
            done: 0,
            to_do: 0,
            listed: false,
            left_out: 0,
            rate: 0.0,
            remaining_ms: None,
            problem: Some(problem.to_string()),
        }),
        (None, None) => None,
    };
    ApiFolder {
        id: folder.serial.0,
        label: folder.label.clone(),
        path: folder.root.clone(),
        kinds: folder.kinds.iter().map(|k| k.word().to_owned()).collect(),
        items: KindCounts { video, music, picture },
        left_out: known.left_out,
        excluded: known.excluded.clone(),
        links: followed(known.link_rule),
        away_ms: known.away.map(ms),
        next_scan: next_scan(&known, library.scans_when_asked()),
        scanned_ms: known.scanned_part.or(known.scanned).map(ms),
        scan,
    }
}

fn followed(rule: LinkRule) -> FollowedLinks {
    match rule {
        LinkRule::Readable => FollowedLinks::Readable,
        LinkRule::All => FollowedLinks::All,
    }
}

fn link_rule(links: FollowedLinks) -> LinkRule {
    match links {
        FollowedLinks::Readable => LinkRule::Readable,
        FollowedLinks::All => LinkRule::All,
    }
}

/// What starts the next scan, in words.
fn next_scan(known: &FolderState, asked: bool) -> String {
    match known.noticed {
        _ if known.away.is_some() => "when the folder is back".into(),
        Noticed::Unknown if asked => "when somebody asks for it".into(),
        Noticed::Unknown => "at once".into(),
        Noticed::Watched => "as soon as something changes in it".into(),
        Noticed::Polled(seconds) => {
            format!("every {seconds} s, as changes in it cannot be watched")
        }
    }
}

#[utoipa::path(
    operation_id = "listFolders",
    summary = "Published folders",
    responses((status = 200, body = Vec<mostra_api::Folder>))
)]
#[get("/folders")]
async fn list(_: Caller, library: web::Data<Library>) -> web::Json<Vec<ApiFolder>> {
    web::Json(library.catalogue().folders().iter().map(|f| to_api(&library, f)).collect())
}

#[utoipa::path(
    operation_id = "getFolder",
    summary = "A folder",
    responses((status = 200, body = mostra_api::Folder))
)]
#[get("/folders/{id}")]
async fn show(
    _: Caller,
    id: web::Path<u32>,
    library: web::Data<Library>,
) -> Result<web::Json<ApiFolder>, ApiFailure> {
    Ok(web::Json(to_api(&library, &library.folder(FolderId(*id))?)))
}

#[utoipa::path(
    operation_id = "addFolder",
    summary = "Publish a folder",
    request_body = mostra_api::NewFolder,
    responses((status = 201, body = mostra_api::Folder))
)]
#[post("/folders")]
async fn add(
    _: Caller,
    body: JsonBody<NewFolder>,
    library: web::Data<Library>,
) -> Result<HttpResponse, ApiFailure> {
    let NewFolder { path, label, kinds, links } = body.0;
    let rule = links.map(link_rule).unwrap_or_default();
    let kinds: Kinds = match kinds {
        None => Kinds::ALL,
        Some(words) => words.join(",").parse().map_err(|why: KindsError| {
            ApiFailure::invalid("Those kinds do not work").why(why.to_string())
        })?,
    };
    let folder = library.clone().into_inner().publish(path, label, kinds, rule).await?;
    Ok(HttpResponse::Created().json(to_api(&library, &folder)))
}

#[utoipa::path(
    operation_id = "removeFolder",
    summary = "Stop publishing a folder",
    responses((status = 204))
)]
#[delete("/folders/{id}")]
async fn remove(
    _: Caller,
    id: web::Path<u32>,
    library: web::Data<Library>,
) -> Result<HttpResponse, ApiFailure> {
    library.withdraw(FolderId(*id)).await?;
    Ok(HttpResponse::NoContent().finish())
}

#[utoipa::path(
    operation_id = "rescanFolder",
    summary = "Scan a folder again, or a directory in it",
    request_body = Option<mostra_api::Rescan>,
    responses((status = 202, body = mostra_api::Folder))
)]
#[post("/folders/{id}/rescan")]
async fn rescan(
    _: Caller,
    id: web::Path<u32>,
    body: OptionalJsonBody<Rescan>,
    library: web::Data<Library>,
) -> Result<HttpResponse, ApiFailure> {
    let Rescan { path, as_it_is } = body.0;
    let shared = library.clone().into_inner();
    let folder = shared.rescan(FolderId(*id), path, as_it_is == Some(true)).await?;
    Ok(HttpResponse::Accepted().json(to_api(&library, &folder)))
}

#[utoipa::path(
    operation_id = "moveFolder",
    summary = "Publish a folder from another path, with the ids and proof that its files have",
    request_body = mostra_api::FolderMove,
    responses((status = 200, body = mostra_api::Folder))
)]
#[put("/folders/{id}/path")]
async fn move_to(
    _: Caller,
    id: web::Path<u32>,
    body: JsonBody<FolderMove>,
    library: web::Data<Library>,
) -> Result<web::Json<ApiFolder>, ApiFailure> {
    let FolderMove { path, anyway } = body.0;
    let shared = library.clone().into_inner();
    let folder = shared.move_folder(FolderId(*id), path, anyway).await?;
    Ok(web::Json(to_api(&library, &folder)))
}

#[utoipa::path(
    operation_id = "listScans",
    summary = "What the last scans of a folder did",
    responses((status = 200, body = mostra_api::ScanReports))
)]
#[get("/folders/{id}/scans")]
async fn reports(
    _: Caller,
    id: web::Path<u32>,
    library: web::Data<Library>,
) -> Result<web::Json<ScanReports>, ApiFailure> {
    let reports = library.scan_reports(FolderId(*id)).await?;
    let reports = reports.into_iter().map(|r| ScanReport {
        began_ms: ms(r.began),
        ended_ms: ms(r.ended),
        why: r.why,
        added: r.counts[0],
        changed: r.counts[1],
        gone: r.counts[2],
        files: r.files.into_iter().map(|(what, path)| ScanChange { what, path }).collect(),
    });
    Ok(web::Json(ScanReports { reports: reports.collect() }))
}

#[utoipa::path(
    operation_id = "setExcluded",
    summary = "Leave sub-folders out of a folder",
    request_body = mostra_api::Excluded,
    responses((status = 200, body = mostra_api::Folder))
)]
#[put("/folders/{id}/excluded")]
async fn exclude(
    _: Caller,
    id: web::Path<u32>,
    body: JsonBody<Excluded>,
    library: web::Data<Library>,
) -> Result<web::Json<ApiFolder>, ApiFailure> {
    let folder = library.clone().into_inner().exclude(FolderId(*id), &body.0.paths).await?;
    Ok(web::Json(to_api(&library, &folder)))
}

#[utoipa::path(
    operation_id = "setLinks",
    summary = "Set which links that lead out of a folder are followed",
    request_body = mostra_api::LinkChoice,
    responses((status = 200, body = mostra_api::Folder))
)]
#[put("/folders/{id}/links")]
async fn set_links(
    _: Caller,
    id: web::Path<u32>,
    body: JsonBody<LinkChoice>,
    library: web::Data<Library>,
) -> Result<web::Json<ApiFolder>, ApiFailure> {
    let rule = link_rule(body.0.links);
    let folder = library.clone().into_inner().set_link_rule(FolderId(*id), rule).await?;
    Ok(web::Json(to_api(&library, &folder)))
}

#[utoipa::path(
    operation_id = "stopScan",
    summary = "End a folder's scan",
    responses((status = 202, body = mostra_api::Folder))
)]
#[delete("/folders/{id}/scan")]
async fn stop_scan(
    _: Caller,
    id: web::Path<u32>,
    library: web::Data<Library>,
) -> Result<HttpResponse, ApiFailure> {
    let folder = library.stop_scan(FolderId(*id))?;
    Ok(HttpResponse::Accepted().json(to_api(&library, &folder)))
}

#[utoipa::path(
    operation_id = "listLeftOut",
    summary = "What the last scan left out",
    responses((status = 200, body = mostra_api::LeftOutList))
)]
#[get("/folders/{id}/left-out")]
async fn left_out(
    _: Caller,
    id: web::Path<u32>,
    library: web::Data<Library>,
) -> Result<web::Json<LeftOutList>, ApiFailure> {
    let folder = library.folder(FolderId(*id))?;
    let files = library.left_out(FolderId(*id)).await?;
    let catalogue = library.catalogue();
    let mut counts = catalogue.folder_counts(folder.serial);
    counts[Kind::Music.index()] -= catalogue.folder_stations(folder.serial);
    let mut other = 0;
    for file in &files {
        let name = file.path.rsplit('/').next().unwrap_or_default();
        match mostra_media::sidecar::class_of(name) {
            FileClass::Media(format) => counts[format.kind().index()] += 1,
            _ => other += 1,
        }
    }
    let [video, music, picture] = counts;
    let found = KindCounts { video, music, picture };
    let files = files.into_iter().map(|f| LeftOut {
        remedy: f.reason.remedy().map(str::to_owned),
        reason: f.reason.to_string(),
        code: serde_json::json!(f.reason),
        path: f.path,
    });
    let files = files.collect();
    Ok(web::Json(LeftOutList { files, found, other }))
}

#[derive(Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
struct At {
    /// Where, absolute; proposals if left out.
    #[serde(default)]
    path: String,
}

#[utoipa::path(
    operation_id = "listPlaces",
    summary = "Directories on the host that could be published",
    params(At),
    responses((status = 200, body = mostra_api::Places))
)]
#[get("/places")]
async fn pick(
    _: Caller,
    at: web::Query<At>,
    library: web::Data<Library>,
) -> Result<web::Json<Places>, ApiFailure> {
    let published: Vec<(String, String)> =
        library.catalogue().folders().iter().map(|f| (f.root.clone(), f.label.clone())).collect();
    let path = at.into_inner().path;
    let listed = web::block(move || {
        if path.is_empty() {
            Ok(places::proposals(&published))
        } else {
            places::inside(&path, &published)
        }
    });
    let unlisted = |error: actix_web::error::BlockingError| {
        ApiFailure::invalid("The folder cannot be listed").why(error.to_string())
    };
    let places::PublishablePlaces { path, parent, places } = listed.await.map_err(unlisted)??;
    let places = places.into_iter().map(|place| Place {
        name: place.name,
        path: place.path,
        why: place.why.map(str::to_owned),
        problem: place.problem.map(|problem| match problem {
            places::PlaceProblem::Published(label) => format!("already published as {label}"),
            places::PlaceProblem::Inside(label) => format!("inside {label}, which is published"),
            places::PlaceProblem::NoRights => "the service may not read it".into(),
        }),
    });
    Ok(web::Json(Places { path, parent, places: places.collect() }))
}
