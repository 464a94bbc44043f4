//! The catalogue for people.

use std::collections::HashMap;

use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, put, web};
use mostra_api::{CatalogueObject, CataloguePage, Continued, ObjectFacts, Position, Track};
use mostra_core::access::{Grant, Pass};
use mostra_core::catalogue::{Catalogue, ItemView, Node, Object, Page};
use mostra_core::stop::Stop;
use mostra_core::{Kinds, present, profile};
use mostra_protocol::search::{self, Criteria, Operator};
use mostra_protocol::{property::Property, sort};
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_actix_web::service_config::ServiceConfig;

use super::body::Body;
use super::problem::Failure;
use super::session::Caller;
use crate::desk::{DEADLINE, Who};
use crate::house::House;

pub fn routes(config: &mut ServiceConfig<'_>) {
    config
        .service(continued)
        .service(show)
        .service(list_children)
        .service(find)
        .service(set_position);
}

fn missing() -> Failure {
    Failure::missing("No such object").next("Start from the root, object 0.")
}

/// What part of the catalogue to show: that of a grant, as a device would see it.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
struct View {
    /// `video`, `music` and `picture`, in a comma list; all if left out.
    kinds: Option<String>,
    /// Numbers of folders in a comma list; all if left out.
    folders: Option<String>,
}

impl View {
    fn pass(&self, caller: &Caller) -> Result<Pass, Failure> {
        let all = Pass::for_account(&caller.0);
        let wrong = |why: String| Failure::invalid("That grant does not work").why(why);
        let kinds: Kinds = match &self.kinds {
            None => Kinds::ALL,
            Some(words) => words.parse().map_err(wrong)?,
        };
        let number = |text: &str| {
            text.trim().parse::<u32>().map_err(|_| wrong(format!("{text:?} is no folder's number")))
        };
        let folders = match &self.folders {
            None => None,
            Some(list) => Some(list.split(',').map(number).collect::<Result<_, _>>()?),
        };
        Ok(all.within(&Grant { kinds, folders }))
    }
}

fn art(original: &str, stamp: u64) -> String {
    format!("/catalogue/{original}/art/{stamp:x}/")
}

fn told(object: Object) -> CatalogueObject {
    let mut told = CatalogueObject {
        id: object.id,
        parent: object.parent,
        title: object.title,
        class: String::new(),
        original: None,
        children: None,
        items: None,
        artist: None,
        art: None,
        facts: None,
        position: None,
    };
    match object.node {
        Node::Container { children, items, class, artist, art: pictured } => {
            told.class = class.upnp().to_owned();
            told.children = Some(children);
            told.items = Some(items);
            told.artist = artist;
            let films = mostra_media::art::films_pictured();
            let pictured = pictured.filter(|shown| present::is_pictured(&shown.1, films));
            told.art = pictured.map(|shown| art(&shown.0, present::art_stamp(&shown.1)));
        }
        Node::Item(item) => {
            told.class = item.class.to_owned();
            let original = item.reference.as_deref().unwrap_or(&told.id);
            let films = mostra_media::art::films_pictured();
            if present::is_pictured(&item.facts, films) {
                told.art = Some(art(original, present::art_stamp(&item.facts)));
            }
            told.original.clone_from(&item.reference);
            told.facts = Some(facts(*item));
        }
    }
    told
}

fn facts(item: ItemView) -> ObjectFacts {
    let codec = |name: &str, profile: Option<u8>, level: Option<u8>| match (profile, level) {
        (Some(profile), Some(level)) if name == "h264" => {
            let profile = match profile {
                66 => "baseline".to_owned(),
                77 => "main".to_owned(),
                100 => "high".to_owned(),
                other => format!("profile {other}"),
            };
            format!("H.264 {profile}, level {}.{}", level / 10, level % 10)
        }
        _ => name.to_owned(),
    };
    let f = item.facts;
    let profile = profile::protocol_info(&f).profile.map(str::to_owned);
    let upright = f.resolution.map(|size| present::upright(size, f.orientation));
    let inside = f.subtitles.into_iter().map(|s| Track {
        codec: s.codec,
        language: s.language,
        ..Track::default()
    });
    let beside = f.captions.into_iter().map(|c| Track {
        codec: if c.webvtt { "WebVTT".into() } else { "SubRip".into() },
        language: c.language,
        file_name: Some(c.name),
        ..Track::default()
    });
    ObjectFacts {
        kind: f.kind.word().into(),
        mime: item.mime.unwrap_or_else(|| f.format.mime().into()),
        size: f.size,
        file_name: item.file_name,
        station: f.station,
        artists: f.artists,
        album_artist: f.album_artist,
        album: f.album,
        track: f.track.0,
        disc: f.disc.0,
        genres: f.genres,
        composers: f.composers,
        episode: f
            .episode
            .map(|e| format!("{}, season {}, episode {}", e.series, e.season, e.number)),
        date: f.date.map(|d| d.to_string()),
        duration_ms: f.duration_ms,
        resolution: upright.map(|(w, h)| format!("{w}x{h}")),
        camera: f.camera,
        frame_rate: f.frame_rate_milli.map(|m| {
            let text = format!("{:.3}", f64::from(m) / 1000.0);
            text.trim_end_matches('0').trim_end_matches('.').to_owned()
        }),
        bit_rate: f.bit_rate,
        video_codec: f.video.as_ref().map(|v| codec(&v.name, v.profile, v.level)),
        audio: (f.tracks.into_iter())
            .map(|t| Track {
                codec: t.codec,
                language: t.language,
                channels: t.channels,
                sample_rate: t.sample_rate,
                bits: t.bits,
                file_name: None,
            })
            .collect(),
        // Those beside come first, by their number among them.
        subtitles: beside.chain(inside).collect(),
        profile,
    }
}

#[utoipa::path(
    operation_id = "getObject",
    summary = "An object of the catalogue",
    params(View),
    responses((status = 200, body = mostra_api::CatalogueObject))
)]
#[get("/catalogue/{id}")]
async fn show(
    caller: Caller,
    id: web::Path<String>,
    view: web::Query<View>,
    house: web::Data<House>,
) -> Result<web::Json<CatalogueObject>, Failure> {
    let pass = view.pass(&caller)?;
    let catalogue = house.catalogue();
    let object = catalogue.object(&pass, &id).ok_or_else(missing)?;
    let mut objects = vec![told(object)];
    add_positions(&house, &caller, &mut objects).await?;
    Ok(web::Json(objects.remove(0)))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
struct Window {
    /// The first object, from 0.
    #[serde(default)]
    start: u32,
    /// How many; 0 for as many as one page holds.
    #[serde(default)]
    count: u32,
    /// An order as players write it, such as `-dc:date`.
    #[serde(default)]
    sort: String,
}

impl Window {
    fn sort(&self) -> Result<Vec<sort::SortKey>, Failure> {
        sort::parse(&self.sort).map_err(|_| {
            Failure::invalid("That order does not work")
                .why(format!("{:?} is no list of properties to sort by.", self.sort))
                .next("For example: +dc:title, or -dc:date,+dc:title")
        })
    }
}

#[utoipa::path(
    operation_id = "listChildren",
    summary = "A page of a container",
    params(Window, View),
    responses((status = 200, body = mostra_api::CataloguePage))
)]
#[get("/catalogue/{id}/children")]
async fn list_children(
    caller: Caller,
    id: web::Path<String>,
    window: web::Query<Window>,
    view: web::Query<View>,
    house: web::Data<House>,
) -> Result<web::Json<CataloguePage>, Failure> {
    let pass = view.pass(&caller)?;
    let catalogue = house.catalogue();
    let sort = window.sort()?;
    let work = {
        let (catalogue, pass, id) = (catalogue.clone(), pass.clone(), id.clone());
        let (start, count) = (window.start, window.count);
        move |_: &Stop| catalogue.children(&pass, &id, start, count, &sort)
    };
    let page = in_time(&house, &caller, work).await?.ok_or_else(missing)?;
    page_of(&house, &caller, &catalogue, &pass, &id, page, window.start).await
}

async fn page_of(
    house: &House,
    caller: &Caller,
    catalogue: &Catalogue,
    pass: &Pass,
    id: &str,
    page: Page,
    start: u32,
) -> Result<web::Json<CataloguePage>, Failure> {
    let path = catalogue.way_to(pass, id).into_iter().chain(catalogue.object(pass, id));
    let path = path.map(told).collect();
    let mut objects: Vec<CatalogueObject> = page.objects.into_iter().map(told).collect();
    add_positions(house, caller, &mut objects).await?;
    let scanning =
        |f: &mostra_core::catalogue::Folder| house.scans.known(f.serial).scanned.is_none();
    let incomplete = !house.is_loaded() || catalogue.folders().iter().any(scanning);
    Ok(web::Json(CataloguePage { path, objects, start, total: page.total, incomplete }))
}

/// Either words, all of which the title must hold, or criteria as players write them.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
struct Wanted {
    /// Words.
    #[serde(default)]
    q: String,
    /// Criteria as players write them (ContentDirectory:1, 2.5.5).
    criteria: Option<String>,
}

#[utoipa::path(
    operation_id = "search",
    summary = "What is found below a container",
    params(Wanted, Window, View),
    responses((status = 200, body = mostra_api::CataloguePage))
)]
#[get("/catalogue/{id}/search")]
async fn find(
    caller: Caller,
    id: web::Path<String>,
    wanted: web::Query<Wanted>,
    window: web::Query<Window>,
    view: web::Query<View>,
    house: web::Data<House>,
) -> Result<web::Json<CataloguePage>, Failure> {
    let criteria = match &wanted.criteria {
        Some(text) => search::parse(text).map_err(|_| {
            Failure::invalid("Those criteria do not work")
                .why(format!("{text:?} does not read as SearchCriteria."))
                .next("For example: dc:title contains \"tide\" and upnp:class derivedfrom \"object.item.videoItem\"")
        })?,
        None => {
            let word = |w: &str| {
                Criteria::Test(Property::Title, Operator::Contains, w.to_owned())
            };
            let words: Vec<Criteria> = wanted.q.split_whitespace().take(16).map(word).collect();
            if words.is_empty() { Criteria::Everything } else { Criteria::And(words) }
        }
    };
    let pass = view.pass(&caller)?;
    let catalogue = house.catalogue();
    let sort = window.sort()?;
    let work = {
        let (catalogue, pass, id) = (catalogue.clone(), pass.clone(), id.clone());
        let (start, count) = (window.start, window.count);
        move |stop: &Stop| {
            let window = mostra_core::catalogue::Window { start, count, sort: &sort };
            catalogue.search_until(stop, &pass, &id, &criteria, window)
        }
    };
    let page = in_time(&house, &caller, work).await?.ok_or_else(missing)?;
    page_of(&house, &caller, &catalogue, &pass, &id, page, window.start).await
}

/// Does what may take a while, as it is done for devices.
async fn in_time<T: Send + 'static>(
    house: &House,
    caller: &Caller,
    work: impl FnOnce(&Stop) -> T + Send + 'static,
) -> Result<T, Failure> {
    let who = Who::Account(caller.0.account().to_owned());
    house.desk.work(who, DEADLINE, work).await.ok_or_else(|| {
        Failure::new(StatusCode::SERVICE_UNAVAILABLE, "That takes too long")
            .next("Ask for less: a part of the catalogue, or fewer criteria.")
    })
}

/// Adds where the person stopped; with the records away there is nothing to add.
async fn add_positions(
    house: &House,
    caller: &Caller,
    objects: &mut [CatalogueObject],
) -> Result<(), Failure> {
    let catalogue = house.catalogue();
    let pass = Pass::for_account(&caller.0);
    let serial = |object: &CatalogueObject| match catalogue.object(&pass, &object.id)?.node {
        Node::Item(item) => Some(item.serial),
        Node::Container { .. } => None,
    };
    let serials: Vec<Option<u32>> = objects.iter().map(serial).collect();
    let files: Vec<u32> = serials.iter().copied().flatten().collect();
    if files.is_empty() || !house.records_answer() {
        return Ok(());
    }
    let account = caller.0.account().to_owned();
    let Ok(known) = house.records.positions(&account, Some(&files)).await else { return Ok(()) };
    let known: HashMap<u32, Position> = known
        .into_iter()
        .map(|p| (p.file, Position { position_ms: p.position_ms, seen: p.seen }))
        .collect();
    for (object, serial) in objects.iter_mut().zip(serials) {
        object.position = serial.and_then(|s| known.get(&s).copied());
    }
    Ok(())
}

#[utoipa::path(
    operation_id = "setPosition",
    summary = "Note where the person stopped in an item",
    request_body = mostra_api::Position,
    responses((status = 204))
)]
#[put("/catalogue/{id}/position")]
async fn set_position(
    caller: Caller,
    id: web::Path<String>,
    body: Body<Position>,
    house: web::Data<House>,
) -> Result<HttpResponse, Failure> {
    let pass = Pass::for_account(&caller.0);
    let object = house.catalogue().object(&pass, &id).ok_or_else(missing)?;
    let Node::Item(item) = object.node else { return Err(missing()) };
    let at = mostra_store::Position {
        file: item.serial,
        position_ms: body.0.position_ms,
        seen: body.0.seen,
        at: house.clock.now(),
    };
    house.records.set_position(caller.0.account(), &at).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// What the person began and did not finish, the newest first.
#[utoipa::path(
    operation_id = "listPositions",
    summary = "Items that the person began and did not finish",
    responses((status = 200, body = mostra_api::Continued))
)]
#[get("/positions")]
async fn continued(
    caller: Caller,
    house: web::Data<House>,
) -> Result<web::Json<Continued>, Failure> {
    let pass = Pass::for_account(&caller.0);
    let catalogue = house.catalogue();
    let positions = house.records.positions(caller.0.account(), None).await?;
    let begun = positions.into_iter().filter(|p| !p.seen && p.position_ms > 0);
    let objects = begun.filter_map(|at| {
        let object = catalogue.original(&pass, at.file)?;
        let position = Some(Position { position_ms: at.position_ms, seen: at.seen });
        Some(CatalogueObject { position, ..told(object) })
    });
    Ok(web::Json(Continued { objects: objects.take(20).collect() }))
}
