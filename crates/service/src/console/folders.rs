//! Publishing folders.

use std::path::{Component, Path, PathBuf};
use std::time::Duration;

use actix_web::http::StatusCode;
use actix_web::{HttpResponse, delete, get, post, put, web};
use mostra_api::{
    Excluded, Folder as ApiFolder, KindCounts, LeftOut, LeftOutList, NewFolder, Places, Rescan,
    Scan, ScanChange, ScanReport, ScanReports, ScanState,
};
use mostra_core::catalogue::{Change, Folder, Inventory};
use mostra_core::facts::Format;
use mostra_core::{Kind, Kinds};
use mostra_store::Counter;
use serde::Deserialize;
use utoipa_actix_web::service_config::ServiceConfig;

use super::body::{Body, OptionalBody};
use super::places;
use super::problem::Failure;
use super::session::Caller;
use crate::clock::ms;
use crate::house::{House, Topic};
use crate::scan::watch::Noticed;
use crate::scan::{self, Scope};

pub fn routes(config: &mut ServiceConfig<'_>) {
    config
        .service(list)
        .service(add)
        .service(show)
        .service(remove)
        .service(rescan)
        .service(stop_scan)
        .service(left_out)
        .service(reports)
        .service(exclude)
        .service(pick);
}

fn told(house: &House, folder: &Folder) -> ApiFolder {
    let [video, music, picture] = house.catalogue().folder_counts(folder.serial);
    let known = house.scans.known(folder.serial);
    let scan = match (&known.running, &known.problem) {
        (Some(progress), _) => progress.told(),
        (None, Some(problem)) => Some(Scan {
            state: ScanState::Failed,
            done: 0,
            to_do: 0,
            listed: false,
            left_out: 0,
            rate: 0.0,
            remaining_ms: None,
            problem: Some(problem.clone()),
        }),
        (None, None) => None,
    };
    ApiFolder {
        id: folder.serial,
        label: folder.label.clone(),
        path: folder.root.clone(),
        kinds: folder.kinds.iter().map(|k| k.word().to_owned()).collect(),
        items: KindCounts { video, music, picture },
        left_out: known.left_out,
        excluded: known.excluded.clone(),
        away_ms: known.away.map(ms),
        next_scan: next_scan(&known, house.config.scan_when_asked),
        scanned_ms: known.scanned.map(ms),
        scan,
    }
}

/// What starts the next scan, in words.
fn next_scan(known: &scan::Known, asked: bool) -> String {
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
async fn list(_: Caller, house: web::Data<House>) -> web::Json<Vec<ApiFolder>> {
    web::Json(house.catalogue().folders().iter().map(|f| told(&house, f)).collect())
}

fn find(house: &House, id: u32) -> Result<Folder, Failure> {
    let found = house.catalogue().folders().iter().find(|f| f.serial == id).cloned();
    found.ok_or_else(|| {
        Failure::missing("No such folder").next("`mostra folder list` shows what is published.")
    })
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
    house: web::Data<House>,
) -> Result<web::Json<ApiFolder>, Failure> {
    Ok(web::Json(told(&house, &find(&house, *id)?)))
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
    body: Body<NewFolder>,
    house: web::Data<House>,
) -> Result<HttpResponse, Failure> {
    let NewFolder { path, label, kinds } = body.0;
    if !house.loaded_soon().await {
        return Err(Failure::new(
            StatusCode::SERVICE_UNAVAILABLE,
            "The catalogue is still loading",
        )
        .next("Try again in a moment."));
    }
    let kinds: Kinds = match kinds {
        None => Kinds::ALL,
        Some(words) => words
            .join(",")
            .parse()
            .map_err(|why: String| Failure::invalid("Those kinds do not work").why(why))?,
    };
    let own = std::fs::canonicalize(&house.config.data).unwrap_or_default();
    let root = web::block(move || usable(&path, &own))
        .await
        .map_err(|e| Failure::invalid("The folder cannot be read").why(e.to_string()))??;
    let shown = root.to_str().map(str::to_owned).ok_or_else(|| {
        Failure::invalid("The folder's path is not valid text").next("Rename it to plain UTF-8.")
    })?;
    for folder in house.catalogue().folders() {
        overlap(&root, &shown, folder)?;
    }
    let name = root.file_name().map(|n| n.to_string_lossy().into_owned());
    let label = label
        .map(|l| l.trim().to_owned())
        .filter(|l| !l.is_empty())
        .or(name)
        .unwrap_or_else(|| "Folder".into());
    if label.chars().count() > 63 || label.chars().any(char::is_control) {
        return Err(Failure::invalid("That label does not work")
            .why("A label is 1 to 63 characters on one line."));
    }
    let serial = house.records.reserve(Counter::Folder, 1).await?;
    let container = house.records.reserve(Counter::Serial, 1).await?;
    let folder = Folder { serial, label, kinds, root: shown, container };
    let new = mostra_store::NewFolder { folder: folder.clone(), at: house.clock.now() };
    house.records.add_folder(&new).await?;
    house.apply(vec![Change::PutFolder(folder.clone())]).await?;
    scan::start(&house.clone().into_inner(), &folder, Scope::Whole("first"));
    tracing::info!(path = folder.root, "published {:?}", folder.label);
    Ok(HttpResponse::Created().json(told(&house, &folder)))
}

/// The real path of a directory that we can read, and that is not our own.
fn usable(path: &str, own: &Path) -> Result<PathBuf, Failure> {
    let path = Path::new(path);
    if !path.is_absolute() {
        return Err(
            Failure::invalid("The path is not absolute").next("Give the whole path, from / on.")
        );
    }
    let real = std::fs::canonicalize(path).map_err(|error| match error.kind() {
        std::io::ErrorKind::NotFound => Failure::invalid("There is no such folder")
            .why(format!("{} does not exist on the host.", path.display())),
        std::io::ErrorKind::PermissionDenied => no_rights(path),
        _ => Failure::invalid("The folder cannot be read").why(error.to_string()),
    })?;
    if !real.is_dir() {
        return Err(
            Failure::invalid("That is not a folder").why(format!("{} is a file.", path.display()))
        );
    }
    if real == Path::new("/") || ["/proc", "/sys", "/dev"].iter().any(|p| real.starts_with(p)) {
        return Err(Failure::invalid("That folder holds the system itself")
            .next("Choose the folder with the media."));
    }
    if real.starts_with(own) {
        return Err(Failure::invalid("That is the service's own directory")
            .why("It holds keys and records of the house.")
            .next("Choose the folder with the media."));
    }
    std::fs::read_dir(&real).map_err(|_| no_rights(path))?;
    Ok(real)
}

fn no_rights(path: &Path) -> Failure {
    Failure::invalid("No rights to read the folder")
        .why(format!("The service's user may not read {}.", path.display()))
        .next(format!("Allow it, for example: chmod -R o+rX '{}'", path.display()))
}

fn overlap(root: &Path, shown: &str, other: &Folder) -> Result<(), Failure> {
    let conflict =
        |title: &str, why: String| Err(Failure::new(StatusCode::CONFLICT, title).why(why));
    let their = Path::new(&other.root);
    if root == their {
        return conflict(
            "The folder is already published",
            format!("{shown} is {:?}.", other.label),
        );
    }
    if root.starts_with(their) {
        return conflict(
            "The folder lies in one that is published",
            format!(
                "{shown} lies in {:?} ({}), so its files are there already.",
                other.label, other.root
            ),
        );
    }
    if their.starts_with(root) {
        return conflict(
            "The folder holds one that is published",
            format!(
                "{:?} ({}) lies in it. Remove that first to publish the whole.",
                other.label, other.root
            ),
        );
    }
    Ok(())
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
    house: web::Data<House>,
) -> Result<HttpResponse, Failure> {
    let folder = find(&house, *id)?;
    house.scans.cancel(folder.serial);
    house.records.remove_folder(folder.serial).await?;
    house.scans.forget(folder.serial);
    house.apply(vec![Change::RemoveFolder(folder.serial)]).await?;
    house.end_uncovered();
    house.tell(Topic::Folders);
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
    body: OptionalBody<Rescan>,
    house: web::Data<House>,
) -> Result<HttpResponse, Failure> {
    let folder = find(&house, *id)?;
    let wish = body.0;
    let scope = match wish.path.filter(|path| !path.is_empty()) {
        None => Scope::Whole("asked"),
        Some(path) => {
            let path = below(&folder, &path)?;
            if !is_directory(&house, &folder, &path).await {
                return Err(Failure::invalid("There is no such sub-folder")
                    .why(format!("{path:?} is no directory in {}.", folder.root))
                    .next("Its path starts below the folder, as Films/Old."));
            }
            Scope::Places { places: [(path, true)].into(), asked: true }
        }
    };
    if wish.as_it_is == Some(true) {
        house.scans.note(folder.serial, |known| known.as_it_is = true);
    }
    scan::start(&house.clone().into_inner(), &folder, scope);
    Ok(HttpResponse::Accepted().json(told(&house, &folder)))
}

/// Whether something is a directory, on disk or in the records: one that went is to be looked
/// for as well.
async fn is_directory(house: &House, folder: &Folder, path: &str) -> bool {
    let (catalogue, serial, path) = (house.catalogue(), folder.serial, path.to_owned());
    let place = Path::new(&folder.root).join(&path);
    let looked = tokio::task::spawn_blocking(move || {
        let recorded = Inventory::of(catalogue, serial).directory(&path).is_some();
        // A drive that hangs holds one thread, however often it is asked.
        recorded || scan::answers(place.clone(), Duration::from_secs(4)) && place.is_dir()
    });
    looked.await.unwrap_or(false)
}

/// A directory's path below a folder, from that or from an absolute one.
fn below(folder: &Folder, path: &str) -> Result<String, Failure> {
    let given = Path::new(path);
    let relative = given.strip_prefix(&folder.root).unwrap_or(given);
    let plain = relative.components().all(|part| matches!(part, Component::Normal(_)));
    let text = relative.to_str().map(|t| t.trim_matches('/').to_owned());
    text.filter(|_| plain && !relative.is_absolute()).ok_or_else(|| {
        Failure::invalid("That is no place in the folder")
            .why(format!("{path} does not lie in {}.", folder.root))
    })
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
    house: web::Data<House>,
) -> Result<web::Json<ScanReports>, Failure> {
    let folder = find(&house, *id)?;
    let reports = house.records.scan_reports(folder.serial).await?;
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
    body: Body<Excluded>,
    house: web::Data<House>,
) -> Result<web::Json<ApiFolder>, Failure> {
    let folder = find(&house, *id)?;
    let mut paths = Vec::new();
    for path in &body.0.paths {
        let path = below(&folder, path)?;
        if path.is_empty() {
            return Err(Failure::invalid("The whole folder cannot be left out")
                .next("Remove the folder instead."));
        }
        paths.push(path);
    }
    paths.sort();
    paths.dedup();
    house.records.set_excluded(folder.serial, &paths).await?;
    house.scans.note(folder.serial, |known| known.excluded = paths);
    scan::start(&house.clone().into_inner(), &folder, Scope::Whole("asked"));
    Ok(web::Json(told(&house, &folder)))
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
    house: web::Data<House>,
) -> Result<HttpResponse, Failure> {
    let folder = find(&house, *id)?;
    if !house.scans.cancel(folder.serial) {
        return Err(Failure::new(StatusCode::CONFLICT, "No scan is running"));
    }
    Ok(HttpResponse::Accepted().json(told(&house, &folder)))
}

/// What a person can do about a reason.
fn remedy(reason: &str) -> Option<String> {
    let remedy = match reason {
        r if r.contains("no permission") => {
            "Allow the service's user to read it, for example: chmod o+r on the file, o+rx on its folders."
        }
        r if r.contains("UTF-8") => "Give the file a plain name.",
        r if r.starts_with("damaged") => "Replace it by a whole copy, or delete it.",
        r if r.contains("is empty") => "Copy it again, or delete it.",
        r if r.contains("not set to hold") => "Publish its folder with that kind as well.",
        r if r.contains("leads nowhere") => "Plug in its drive, or delete the link.",
        r if r.contains("another drive than before") => {
            "Mount its drive again; it comes back with all that is known of it. When the drives are meant to be as they are now, take them so under Folders, or: mostra folder rescan FOLDER --as-it-is"
        }
        r if r.contains("does not answer") => {
            "See to the drive or network share; it comes back by itself."
        }
        r if r.contains("folders deep") => "Move it further up.",
        r if r.contains("hosts that are not allowed") => {
            "Allow the host under Settings, or: mostra house stations --allow HOST"
        }
        r if r.starts_with("playlist:") => "Correct the list, or publish the files that it names.",
        _ => return None,
    };
    Some(remedy.to_owned())
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
    house: web::Data<House>,
) -> Result<web::Json<LeftOutList>, Failure> {
    let folder = find(&house, *id)?;
    let files = house.records.left_out(folder.serial).await?;
    let catalogue = house.catalogue();
    let mut counts = catalogue.folder_counts(folder.serial);
    counts[Kind::Music.index()] -= catalogue.folder_stations(folder.serial);
    let mut other = 0;
    for file in &files {
        let extension = file.path.rsplit('/').next().and_then(|name| name.rsplit_once('.'));
        match extension.and_then(|(_, e)| Format::kind_of_extension(&e.to_lowercase())) {
            Some(kind) => counts[kind.index()] += 1,
            None => other += 1,
        }
    }
    let [video, music, picture] = counts;
    let found = KindCounts { video, music, picture };
    let files = files.into_iter().map(|f| LeftOut {
        remedy: remedy(&f.reason),
        path: f.path,
        reason: f.reason,
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
    house: web::Data<House>,
) -> Result<web::Json<Places>, Failure> {
    let published: Vec<(String, String)> =
        house.catalogue().folders().iter().map(|f| (f.root.clone(), f.label.clone())).collect();
    let path = at.into_inner().path;
    let listed = web::block(move || {
        if path.is_empty() {
            Ok(places::proposals(&published))
        } else {
            places::inside(&path, &published)
        }
    });
    Ok(web::Json(
        listed
            .await
            .map_err(|e| Failure::invalid("The folder cannot be listed").why(e.to_string()))??,
    ))
}
