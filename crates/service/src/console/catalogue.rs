//! The catalogue for people.

use actix_web::web;
use mostra_api::{CatalogueObject, CataloguePage, ObjectFacts};
use mostra_core::access::Pass;
use mostra_core::catalogue::{Node, Object};
use mostra_core::profile;
use serde::Deserialize;

use super::problem::Failure;
use super::session::Caller;
use crate::house::House;

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .route("/catalogue/{id}", web::get().to(show))
        .route("/catalogue/{id}/children", web::get().to(children));
}

fn missing() -> Failure {
    Failure::missing("No such object").next("Start from the root, object 0.")
}

pub fn told(object: Object<'_>) -> CatalogueObject {
    let (mut children, mut items, mut facts) = (None, None, None);
    match object.node {
        Node::Container { children: n, items: below, .. } => {
            (children, items) = (Some(n), Some(below))
        }
        Node::Item(item) => {
            let f = item.facts;
            let codec = |name: &str, profile: Option<u8>, level: Option<u8>| match (profile, level)
            {
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
            facts = Some(ObjectFacts {
                kind: f.kind.word().into(),
                mime: f.format.mime().into(),
                size: f.size,
                file_name: item.file_name.into(),
                artist: f.artist.clone(),
                album: f.album.clone(),
                date: f.date.clone(),
                duration_ms: f.duration_ms,
                resolution: f.resolution.map(|(w, h)| format!("{w}x{h}")),
                bit_rate: f.bit_rate,
                video_codec: f.video.as_ref().map(|v| codec(&v.name, v.profile, v.level)),
                audio_codec: f.audio.as_ref().map(|a| a.name.clone()),
                profile: profile::protocol_info(f).profile.map(str::to_owned),
            });
        }
    }
    CatalogueObject {
        id: object.id,
        parent: object.parent,
        title: object.title,
        children,
        items,
        facts,
    }
}

async fn show(
    caller: Caller,
    id: web::Path<String>,
    house: web::Data<House>,
) -> Result<web::Json<CatalogueObject>, Failure> {
    let pass = Pass::for_account(&caller.0);
    let catalogue = house.catalogue();
    Ok(web::Json(told(catalogue.object(&pass, &id).ok_or_else(missing)?)))
}

#[derive(Deserialize)]
struct Window {
    #[serde(default)]
    start: u32,
    #[serde(default)]
    count: u32,
}

async fn children(
    caller: Caller,
    id: web::Path<String>,
    window: web::Query<Window>,
    house: web::Data<House>,
) -> Result<web::Json<CataloguePage>, Failure> {
    let pass = Pass::for_account(&caller.0);
    let catalogue = house.catalogue();
    let page =
        catalogue.children(&pass, &id, window.start, window.count, &[]).ok_or_else(missing)?;
    let mut path = Vec::new();
    let mut at = Some(id.into_inner());
    // An object's parents reach the root in at most 32 steps (CDS-5).
    while let Some(object) =
        at.and_then(|id| catalogue.object(&pass, &id)).filter(|_| path.len() < 33)
    {
        at = Some(object.parent.clone());
        path.push(told(object));
    }
    path.reverse();
    let objects = page.objects.into_iter().map(told).collect();
    Ok(web::Json(CataloguePage { path, objects, start: window.start, total: page.total }))
}
