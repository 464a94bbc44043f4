//! The catalogue for people.

use std::future::{Ready, ready};

use actix_web::dev::Payload;
use actix_web::http::StatusCode;
use actix_web::{FromRequest, HttpRequest, HttpResponse, get, put, web};
use mostra_api::{
    CatalogueObject, CataloguePage, Continued, FoundGroup, ObjectFacts, Position, Track,
};
use mostra_app::compute_pool::{ComputePool, DEADLINE, WorkOwner};
use mostra_app::library::Library;
use mostra_core::access::{Grant, Pass};
use mostra_core::account::SignedIn;
use mostra_core::catalogue::{Folder, ItemView, Node, Object, Page, TextQuery, Window};
use mostra_core::ids::{FileId, FolderId};
use mostra_core::stop::Stop;
use mostra_core::{Kinds, KindsError, present, profile};
use mostra_protocol::model::{search, sort};
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_actix_web::service_config::ServiceConfig;

use super::body::JsonBody;
use super::problem::ApiFailure;
use super::session::Caller;

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config
        .service(continued)
        .service(show)
        .service(list_children)
        .service(find)
        .service(set_position);
}

fn missing(library: &Library) -> ApiFailure {
    let failure = ApiFailure::not_in(library, "No such object");
    match library.shared().is_loaded() {
        true => failure.next("Start from the root, object 0."),
        false => failure,
    }
}

/// Somebody who reads the catalogue, and what they read it with.
struct CatalogueReader {
    who: SignedIn,
    library: web::Data<Library>,
    pool: web::Data<ComputePool>,
}

impl FromRequest for CatalogueReader {
    type Error = ApiFailure;
    type Future = Ready<Result<CatalogueReader, ApiFailure>>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let caller = Caller::from_request(request, payload).into_inner();
        let (library, pool) = (request.app_data(), request.app_data());
        ready(caller.and_then(|caller| {
            let parts = (|| Some((web::Data::clone(library?), web::Data::clone(pool?))))();
            let (library, pool) = parts.ok_or_else(|| ApiFailure::missing("No catalogue"))?;
            Ok(CatalogueReader { who: caller.0, library, pool })
        }))
    }
}

impl CatalogueReader {
    /// Does what may take a while, as it is done for devices.
    async fn in_time<T: Send + 'static>(
        &self,
        work: impl FnOnce(&Stop) -> T + Send + 'static,
    ) -> Result<T, ApiFailure> {
        let who = WorkOwner::Account(self.who.account().to_owned());
        self.pool.run(who, DEADLINE, work).await.ok_or_else(|| {
            ApiFailure::new(StatusCode::SERVICE_UNAVAILABLE, "That takes too long")
                .next("Ask for less: a part of the catalogue, or fewer criteria.")
        })
    }

    async fn page_of(
        &self,
        pass: &Pass,
        id: &str,
        page: Page,
        start: u32,
    ) -> web::Json<CataloguePage> {
        let catalogue = self.library.catalogue();
        let path = catalogue.way_to(pass, id).into_iter().chain(catalogue.object(pass, id));
        let path = path.map(to_api).collect();
        let mut objects: Vec<CatalogueObject> = page.objects.into_iter().map(to_api).collect();
        self.add_positions(&mut objects).await;
        let scanning = |folder: &Folder| self.library.scans.known(folder.serial).scanned.is_none();
        let incomplete =
            !self.library.shared().is_loaded() || catalogue.folders().iter().any(scanning);
        let (total, groups) = (page.total, Vec::new());
        web::Json(CataloguePage { path, objects, start, total, incomplete, groups })
    }

    /// Adds where the person stopped; with the records away there is nothing to add.
    async fn add_positions(&self, objects: &mut [CatalogueObject]) {
        let catalogue = self.library.catalogue();
        let pass = Pass::for_account(&self.who);
        let serial = |object: &CatalogueObject| match catalogue.object(&pass, &object.id)?.node {
            Node::Item(item) => Some(item.serial),
            Node::Container { .. } => None,
        };
        let serials: Vec<Option<FileId>> = objects.iter().map(serial).collect();
        let files: Vec<FileId> = serials.iter().copied().flatten().collect();
        let known = self.library.positions(&self.who, &files).await;
        for (object, serial) in objects.iter_mut().zip(serials) {
            let at = serial.and_then(|serial| known.get(&serial));
            let position = |at: &mostra_store::Position| Position {
                position_ms: at.position_ms,
                seen: at.seen,
            };
            object.position = at.map(position);
        }
    }
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
    fn pass(&self, reader: &CatalogueReader) -> Result<Pass, ApiFailure> {
        let all = Pass::for_account(&reader.who);
        let wrong = |why: String| ApiFailure::invalid("That grant does not work").why(why);
        let kinds: Kinds = match &self.kinds {
            None => Kinds::ALL,
            Some(words) => words.parse().map_err(|e: KindsError| wrong(e.to_string()))?,
        };
        let number = |text: &str| {
            text.trim()
                .parse()
                .map(FolderId)
                .map_err(|_| wrong(format!("{text:?} is no folder's number")))
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

fn to_api(object: Object) -> CatalogueObject {
    let mut shown = CatalogueObject {
        id: object.id,
        parent: object.parent,
        title: object.title,
        within: None,
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
            shown.class = class.upnp().to_owned();
            shown.children = Some(children);
            shown.items = Some(items);
            shown.artist = artist;
            let films = mostra_media::art::films_pictured();
            let pictured = pictured.filter(|shown| present::is_pictured(&shown.1, films));
            shown.art = pictured.map(|shown| art(&shown.0, present::art_stamp(&shown.1)));
        }
        Node::Item(item) => {
            shown.class = item.class.to_owned();
            let original = item.reference.as_deref().unwrap_or(&shown.id);
            let films = mostra_media::art::films_pictured();
            if present::is_pictured(&item.facts, films) {
                shown.art = Some(art(original, present::art_stamp(&item.facts)));
            }
            shown.original.clone_from(&item.reference);
            shown.facts = Some(facts(*item));
        }
    }
    shown
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
    reader: CatalogueReader,
    id: web::Path<String>,
    view: web::Query<View>,
) -> Result<web::Json<CatalogueObject>, ApiFailure> {
    let pass = view.pass(&reader)?;
    let object =
        reader.library.catalogue().object(&pass, &id).ok_or_else(|| missing(&reader.library))?;
    let mut objects = vec![to_api(object)];
    reader.add_positions(&mut objects).await;
    Ok(web::Json(objects.remove(0)))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
struct PageQuery {
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

impl PageQuery {
    fn sort(&self) -> Result<Vec<sort::SortKey>, ApiFailure> {
        sort::parse(&self.sort).map_err(|_| {
            ApiFailure::invalid("That order does not work")
                .why(format!("{:?} is no list of properties to sort by.", self.sort))
                .next("For example: +dc:title, or -dc:date,+dc:title")
        })
    }
}

#[utoipa::path(
    operation_id = "listChildren",
    summary = "A page of a container",
    params(PageQuery, View),
    responses((status = 200, body = mostra_api::CataloguePage))
)]
#[get("/catalogue/{id}/children")]
async fn list_children(
    reader: CatalogueReader,
    id: web::Path<String>,
    window: web::Query<PageQuery>,
    view: web::Query<View>,
) -> Result<web::Json<CataloguePage>, ApiFailure> {
    let pass = view.pass(&reader)?;
    let catalogue = reader.library.catalogue();
    let sort = window.sort()?;
    let work = {
        let (catalogue, pass, id) = (catalogue.clone(), pass.clone(), id.clone());
        let (start, count) = (window.start, window.count);
        move |stop: &Stop| {
            let window = Window { start, count, sort: &sort };
            catalogue.children_until(stop, &pass, &id, window)
        }
    };
    let page = reader.in_time(work).await?.ok_or_else(|| missing(&reader.library))?;
    Ok(reader.page_of(&pass, &id, page, window.start).await)
}

/// Either words of a title, an artist, an album or a file's name, or a date; or criteria as players
/// write them.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
struct Wanted {
    /// Words, all of which must be found; some may say a date, as `2024` or `March 2024`.
    #[serde(default)]
    q: String,
    /// Criteria as players write them (ContentDirectory:1, 2.5.5).
    criteria: Option<String>,
}

#[utoipa::path(
    operation_id = "search",
    summary = "What is found below a container",
    params(Wanted, PageQuery, View),
    responses((status = 200, body = mostra_api::CataloguePage))
)]
#[get("/catalogue/{id}/search")]
async fn find(
    reader: CatalogueReader,
    id: web::Path<String>,
    wanted: web::Query<Wanted>,
    window: web::Query<PageQuery>,
    view: web::Query<View>,
) -> Result<web::Json<CataloguePage>, ApiFailure> {
    let pass = view.pass(&reader)?;
    let catalogue = reader.library.catalogue();
    let sort = window.sort()?;
    let Some(text) = &wanted.criteria else {
        let query = TextQuery::read(&wanted.q, catalogue.options().locale);
        let work = {
            let (catalogue, pass, id) = (catalogue.clone(), pass.clone(), id.clone());
            let (start, count) = (window.start, window.count);
            move |stop: &Stop| {
                catalogue.find(stop, &pass, &id, &query, Window { start, count, sort: &sort })
            }
        };
        let found = reader.in_time(work).await?.ok_or_else(|| missing(&reader.library))?;
        let groups = found
            .groups
            .iter()
            .map(|(group, count)| FoundGroup { group: group.word().into(), count: *count });
        let groups = groups.collect();
        let update_id = catalogue.update_id();
        let page = Page { objects: found.objects, total: found.total, update_id };
        let mut page = reader.page_of(&pass, &id, page, window.start).await.into_inner();
        // Lists of one title are told apart by where they stand.
        for list in page.objects.iter_mut().filter(|o| o.children.is_some() && o.artist.is_none()) {
            list.within = catalogue.summary(&pass, &list.parent).map(|around| around.title);
        }
        return Ok(web::Json(CataloguePage { groups, ..page }));
    };
    let criteria = search::parse(text).map_err(|_| {
        ApiFailure::invalid("Those criteria do not work")
            .why(format!("{text:?} does not read as SearchCriteria."))
            .next("For example: dc:title contains \"tide\" and upnp:class derivedfrom \"object.item.videoItem\"")
    })?;
    let work = {
        let (catalogue, pass, id) = (catalogue.clone(), pass.clone(), id.clone());
        let (start, count) = (window.start, window.count);
        move |stop: &Stop| {
            let window = Window { start, count, sort: &sort };
            catalogue.search_until(stop, &pass, &id, &criteria, window)
        }
    };
    let page = reader.in_time(work).await?.ok_or_else(|| missing(&reader.library))?;
    Ok(reader.page_of(&pass, &id, page, window.start).await)
}

#[utoipa::path(
    operation_id = "setPosition",
    summary = "Note where the person stopped in an item",
    request_body = mostra_api::Position,
    responses((status = 204))
)]
#[put("/catalogue/{id}/position")]
async fn set_position(
    reader: CatalogueReader,
    id: web::Path<String>,
    body: JsonBody<Position>,
) -> Result<HttpResponse, ApiFailure> {
    let Position { position_ms, seen } = body.0;
    match reader.library.set_position(&reader.who, &id, position_ms, seen).await? {
        true => Ok(HttpResponse::NoContent().finish()),
        false => Err(missing(&reader.library)),
    }
}

/// What the person began and did not finish, the newest first.
#[utoipa::path(
    operation_id = "listPositions",
    summary = "Items that the person began and did not finish",
    responses((status = 200, body = mostra_api::Continued))
)]
#[get("/positions")]
async fn continued(reader: CatalogueReader) -> Result<web::Json<Continued>, ApiFailure> {
    let begun = reader.library.begun(&reader.who).await?;
    let objects = begun.into_iter().map(|(object, at)| {
        let position = Some(Position { position_ms: at.position_ms, seen: at.seen });
        CatalogueObject { position, ..to_api(object) }
    });
    Ok(web::Json(Continued { objects: objects.collect() }))
}
