//! The catalogue as a device gets it: by the same call, the same rules and the same page sizes.

use actix_web::http::StatusCode;
use actix_web::{get, web};
use mostra_api::{SeenBy, SeenObject, SeenResource};
use mostra_app::compute_pool::{ComputePool, DEADLINE, WorkOwner};
use mostra_app::devices::Devices;
use mostra_app::library::{FolderError, Library};
use mostra_app::network::Network;
use mostra_core::access::Decision;
use mostra_core::ids::{DeviceId, UpdateId};
use mostra_core::present::{self, AnswerForm, ListAnswer};
use mostra_core::stop::Stop;
use mostra_protocol::model::didl;
use mostra_protocol::model::xml_writer::Layer;
use mostra_protocol::server::content_directory::{Browse, Leniency, Search};
use mostra_protocol::server::{Call, Fault};
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_actix_web::service_config::ServiceConfig;

use super::problem::ApiFailure;
use super::session::Caller;

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(seen_by);
}

/// What of an object is wanted, by the names that the device's own call has.
#[derive(Debug, Deserialize, IntoParams)]
struct ViewQuery {
    /// StartingIndex.
    #[serde(default)]
    start: u32,
    /// RequestedCount; 0 for as many as a page of this device holds.
    #[serde(default)]
    count: u32,
    /// SortCriteria.
    #[serde(default)]
    sort: String,
    /// Filter.
    filter: Option<String>,
    /// Whether the object itself is wanted and not what it holds.
    #[serde(default)]
    itself: bool,
    /// SearchCriteria: what fits below it is wanted.
    criteria: Option<String>,
}

impl ViewQuery {
    /// The call by which a device asks for it.
    fn call(&self, object: String) -> Call {
        let mut arguments = vec![
            ("Filter", self.filter.clone().unwrap_or_else(|| "*".into())),
            ("StartingIndex", self.start.to_string()),
            ("RequestedCount", self.count.to_string()),
            ("SortCriteria", self.sort.clone()),
        ];
        let action = match &self.criteria {
            Some(criteria) => {
                arguments.push(("ContainerID", object));
                arguments.push(("SearchCriteria", criteria.clone()));
                "Search"
            }
            None => {
                let flag = if self.itself { "BrowseMetadata" } else { "BrowseDirectChildren" };
                arguments.push(("ObjectID", object));
                arguments.push(("BrowseFlag", flag.into()));
                "Browse"
            }
        };
        Call {
            namespace: String::new(),
            action: action.into(),
            arguments: arguments
                .into_iter()
                .map(|(name, value)| (name.to_owned(), value))
                .collect(),
        }
    }
}

#[utoipa::path(
    operation_id = "seenBy",
    summary = "A part of the catalogue as a device gets it",
    params(("id" = u32, Path), ("object" = String, Path), ViewQuery),
    responses((status = 200, body = mostra_api::SeenBy))
)]
#[get("/devices/{id}/catalogue/{object}")]
async fn seen_by(
    caller: Caller,
    path: web::Path<(u32, String)>,
    wanted: web::Query<ViewQuery>,
    devices: web::Data<Devices>,
    library: web::Data<Library>,
    network: web::Data<Network>,
    pool: web::Data<ComputePool>,
) -> Result<web::Json<SeenBy>, ApiFailure> {
    let (id, object) = path.into_inner();
    let device = devices.book().get(DeviceId(id)).cloned();
    let device = device.ok_or_else(|| {
        ApiFailure::missing("No such device").next("`mostra device list` shows all.")
    })?;
    let call = wanted.call(object);
    // As it reaches us.
    let base = network.base_for(device.address());
    let leniency = match device.shown.pass_over_sort {
        Some(true) => Leniency::PassOverSort,
        _ => Leniency::Standard,
    };
    let (catalogue, decision) = (library.catalogue(), device.decision());
    let (traits, offset) = (device.shown.clone(), device.update_offset);
    let work = move |stop: &Stop| -> Result<ListAnswer, Fault> {
        let form = AnswerForm {
            base: &base,
            offset,
            films_pictured: mostra_media::art::films_pictured(),
            layer: Layer::Document,
            traits: &traits,
            counts_files: false,
        };
        match &*call.action {
            "Search" => {
                let search = Search::read(&call, leniency)?;
                present::search(&catalogue, &decision, &search, form, stop)
            }
            _ => {
                let browse = Browse::read(&call, leniency)?;
                present::browse(&catalogue, &decision, &browse, form, stop)
            }
        }
    };
    let who = WorkOwner::Account(caller.0.account().to_owned());
    let page = pool.run(who, DEADLINE, work).await.unwrap_or(Err(Fault::ActionFailed));
    if !library.shared().is_loaded() {
        return Err(FolderError::Loading.into());
    }
    let page = page.map_err(|fault| refused(fault, &device.label()))?;
    let objects =
        didl::read(&page.result).unwrap_or_default().into_iter().map(|object| SeenObject {
            id: object.id,
            title: object.title,
            class: object.class,
            container: object.container,
            child_count: object.child_count,
            resources: object
                .resources
                .into_iter()
                .map(|(url, protocol_info, size)| SeenResource { url, protocol_info, size })
                .collect(),
        });
    let update_id = match device.decision() {
        Decision::Admitted(_) => page.update_id,
        Decision::Waiting | Decision::Refused => UpdateId(offset),
    };
    Ok(web::Json(SeenBy {
        device: id,
        label: device.label(),
        standing: device.stands().map_or("none", |standing| standing.word()).into(),
        start: wanted.start,
        total: page.total,
        update_id: update_id.0,
        objects: objects.collect(),
        result: page.result,
    }))
}

/// The fault that the device would be answered with.
fn refused(fault: Fault, label: &str) -> ApiFailure {
    let status = match fault {
        Fault::NoSuchObject | Fault::NoSuchContainer => StatusCode::NOT_FOUND,
        _ => StatusCode::UNPROCESSABLE_ENTITY,
    };
    ApiFailure::new(status, &format!("{label} is answered with error {}", fault.code()))
        .why(format!("{fault}."))
        .next("Start from the root, object 0.")
}
