//! Publishing folders.

use std::path::{Path, PathBuf};

use actix_web::http::StatusCode;
use actix_web::{HttpResponse, web};
use mostra_api::{
    Folder as ApiFolder, KindCounts, LeftOut, LeftOutList, NewFolder, Places, Scan, ScanState,
};
use mostra_core::Kinds;
use mostra_core::catalogue::{Change, Folder};
use mostra_store::Counter;
use serde::Deserialize;

use super::places;
use super::problem::Failure;
use super::session::Caller;
use crate::clock::ms;
use crate::house::{House, Topic};
use crate::scan;

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .route("/folders", web::get().to(list))
        .route("/folders", web::post().to(add))
        .route("/folders/{id}", web::get().to(show))
        .route("/folders/{id}", web::delete().to(remove))
        .route("/folders/{id}/rescan", web::post().to(rescan))
        .route("/folders/{id}/scan", web::delete().to(stop_scan))
        .route("/folders/{id}/left-out", web::get().to(left_out))
        .route("/places", web::get().to(pick));
}

fn told(house: &House, folder: &Folder) -> ApiFolder {
    let [video, music, picture] = house.catalogue().folder_counts(folder.serial);
    let known = house.scans.known(folder.serial);
    let scan = match (&known.running, &known.problem) {
        (Some(progress), _) => Some(progress.told()),
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
        scanned_ms: known.scanned.map(ms),
        scan,
    }
}

async fn list(_: Caller, house: web::Data<House>) -> web::Json<Vec<ApiFolder>> {
    web::Json(house.catalogue().folders().iter().map(|f| told(&house, f)).collect())
}

fn find(house: &House, id: u32) -> Result<Folder, Failure> {
    let found = house.catalogue().folders().iter().find(|f| f.serial == id).cloned();
    found.ok_or_else(|| {
        Failure::missing("No such folder").next("`mostra folder list` shows what is published.")
    })
}

async fn show(
    _: Caller,
    id: web::Path<u32>,
    house: web::Data<House>,
) -> Result<web::Json<ApiFolder>, Failure> {
    Ok(web::Json(told(&house, &find(&house, *id)?)))
}

async fn add(
    _: Caller,
    body: web::Json<NewFolder>,
    house: web::Data<House>,
) -> Result<HttpResponse, Failure> {
    let NewFolder { path, label, kinds } = body.into_inner();
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
    let root = web::block(move || usable(&path))
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
    scan::start(&house.clone().into_inner(), folder.clone());
    tracing::info!(path = folder.root, "published {:?}", folder.label);
    Ok(HttpResponse::Created().json(told(&house, &folder)))
}

/// The real path of a directory that we can read.
fn usable(path: &str) -> Result<PathBuf, Failure> {
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
    house.tell(Topic::Folders);
    Ok(HttpResponse::NoContent().finish())
}

async fn rescan(
    _: Caller,
    id: web::Path<u32>,
    house: web::Data<House>,
) -> Result<HttpResponse, Failure> {
    let folder = find(&house, *id)?;
    scan::start(&house.clone().into_inner(), folder.clone());
    Ok(HttpResponse::Accepted().json(told(&house, &folder)))
}

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

async fn left_out(
    _: Caller,
    id: web::Path<u32>,
    house: web::Data<House>,
) -> Result<web::Json<LeftOutList>, Failure> {
    let folder = find(&house, *id)?;
    let files = house.records.left_out(folder.serial).await?;
    let files = files.into_iter().map(|f| LeftOut { path: f.path, reason: f.reason }).collect();
    Ok(web::Json(LeftOutList { files }))
}

#[derive(Deserialize)]
struct At {
    #[serde(default)]
    path: String,
}

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
