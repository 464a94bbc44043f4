//! What is on the network: things found and devices, joined to rows.

use std::collections::BTreeSet;

use actix_web::http::header::{CACHE_CONTROL, CONTENT_SECURITY_POLICY};
use actix_web::{HttpResponse, get, post, web};
use mostra_api::{
    FoundThing, NetworkSearch, NetworkThing, NetworkView, Outsider, ThingDevice, ThingService,
};
use mostra_app::Context;
use mostra_app::clock::ms;
use mostra_app::devices::Devices;
use mostra_app::network::Network;
use mostra_app::network::discovery::DiscoveryCommand;
use mostra_core::device::Device;
use mostra_core::found::{
    DevicePlace, Documents, FoundBook, Role, Row, Thing, ThingPlace, ThingPresence, join,
};
use mostra_core::ids::FoundId;
use mostra_protocol::control_point::Gone;
use utoipa_actix_web::service_config::ServiceConfig;

use super::device_view;
use super::problem::ApiFailure;
use super::session::{Caller, CallerOrKey};

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(view).service(search).service(show).service(icon);
}

fn search_state(context: &Context, network: &Network) -> NetworkSearch {
    NetworkSearch {
        last_ms: network.found.last_search().map(ms),
        running: network.found.book().is_searching(context.now()),
    }
}

#[utoipa::path(
    operation_id = "viewNetwork",
    summary = "What is on the network: things found, and devices that asked",
    responses((status = 200, body = mostra_api::NetworkView))
)]
#[get("/network")]
async fn view(
    _: Caller,
    context: web::Data<Context>,
    network: web::Data<Network>,
    devices: web::Data<Devices>,
) -> web::Json<NetworkView> {
    let outsiders = network.found.outsiders().into_iter().map(|outsider| Outsider {
        address: outsider.address.to_string(),
        what: outsider.to_string(),
        first_ms: ms(outsider.first),
        last_ms: ms(outsider.last),
        times: outsider.times,
    });
    web::Json(NetworkView {
        search: search_state(&context, &network),
        things: things(&network, &devices),
        outsiders: outsiders.collect(),
        dropped: network.found.book().dropped(),
    })
}

#[utoipa::path(
    operation_id = "searchNetwork",
    summary = "Search for what is on the network; at most once in five seconds",
    responses((status = 200, body = mostra_api::NetworkSearch))
)]
#[post("/network/search")]
async fn search(
    _: Caller,
    context: web::Data<Context>,
    network: web::Data<Network>,
) -> Result<web::Json<NetworkSearch>, ApiFailure> {
    if network.served().is_empty() {
        return Err(ApiFailure::invalid("There is no network to search")
            .why("The house is off, or no interface that it serves is up.")
            .next("Switch it on: mostra house on. Which interfaces: mostra config show"));
    }
    network.command(DiscoveryCommand::Search);
    let state = search_state(&context, &network);
    Ok(web::Json(NetworkSearch { running: true, ..state }))
}

#[utoipa::path(
    operation_id = "getNetworkThing",
    summary = "One thing on the network, by its key",
    responses((status = 200, body = mostra_api::NetworkThing))
)]
#[get("/network/things/{key}")]
async fn show(
    _: Caller,
    key: web::Path<String>,
    network: web::Data<Network>,
    devices: web::Data<Devices>,
) -> Result<web::Json<NetworkThing>, ApiFailure> {
    let missing = || ApiFailure::missing("No such thing").next("`mostra network list` shows all.");
    let number = key.strip_prefix('n').and_then(|number| number.parse::<u32>().ok());
    let named = |thing: &NetworkThing| {
        thing.key == *key || number.is_some_and(|n| thing.found.iter().any(|found| found.id == n))
    };
    let thing = things(&network, &devices).into_iter().find(named);
    thing.map(web::Json).ok_or_else(missing)
}

#[utoipa::path(
    operation_id = "getNetworkIcon",
    summary = "The icon of something found",
    responses((status = 200, content_type = "image/png"))
)]
#[get("/network/found/{id}/icon")]
async fn icon(
    _: CallerOrKey,
    id: web::Path<u32>,
    network: web::Data<Network>,
) -> Result<HttpResponse, ApiFailure> {
    let icon = network.found.icon(FoundId(*id));
    let (mime, bytes) = icon.ok_or_else(|| ApiFailure::missing("It has no icon"))?;
    // Somebody else made it: it is shown as a picture and as nothing else.
    Ok(HttpResponse::Ok()
        .content_type(mime)
        .insert_header((CONTENT_SECURITY_POLICY, "default-src 'none'; sandbox"))
        .insert_header((CACHE_CONTROL, "private, max-age=60"))
        .body(bytes))
}

/// All rows.
fn things(network: &Network, devices: &Devices) -> Vec<NetworkThing> {
    let found = network.found.book();
    let known: Vec<Device> = devices.book().iter().cloned().collect();
    let places: Vec<ThingPlace> = found
        .things()
        .map(|thing| ThingPlace {
            id: thing.id,
            address: thing.address,
            hardware: devices.hardware(thing.address),
            udns: thing.udns.clone(),
            roles: thing.roles(),
        })
        .collect();
    let device_places: Vec<DevicePlace> = known
        .iter()
        .map(|device| DevicePlace {
            id: device.id,
            contacts: device.endpoints.iter().map(|e| (e.address, e.hardware)).collect(),
            udns: device.udns.clone(),
        })
        .collect();
    let hosts: BTreeSet<_> = network.served().iter().map(|served| served.address).collect();
    let rows = join(&places, &device_places);
    let parts = Parts { network, devices, found: &found, known: &known, places: &places };
    let mut all: Vec<NetworkThing> = rows.iter().filter_map(|row| parts.thing(row)).collect();
    for thing in &mut all {
        thing.this_computer = thing.address.parse().is_ok_and(|address| hosts.contains(&address));
    }
    all
}

struct Parts<'a> {
    network: &'a Network,
    devices: &'a Devices,
    found: &'a FoundBook,
    known: &'a [Device],
    places: &'a [ThingPlace],
}

impl Parts<'_> {
    fn thing(&self, row: &Row) -> Option<NetworkThing> {
        let found: Vec<&Thing> = row.things.iter().filter_map(|id| self.found.get(*id)).collect();
        let devices: Vec<&Device> = row
            .devices
            .iter()
            .filter_map(|id| {
                let at = self.known.binary_search_by_key(id, |device| device.id).ok()?;
                self.known.get(at)
            })
            .collect();
        let mut roles: BTreeSet<Role> = found.iter().flat_map(|thing| thing.roles()).collect();
        if !devices.is_empty() {
            roles.insert(Role::Player);
        }
        if roles.len() > 1 {
            roles.remove(&Role::Other);
        }
        let named = devices.iter().find(|device| device.name.is_some());
        let media = found.iter().find(|thing| thing.roles().iter().any(|role| role.is_media()));
        let first = media.or(found.first());
        let label = match (named, first) {
            (Some(device), _) => device.label(),
            (None, Some(thing)) => thing.label(),
            (None, None) => devices.first()?.label(),
        };
        let here = found.iter().any(|thing| thing.is_here());
        let away = found.iter().filter_map(|thing| match thing.presence {
            ThingPresence::Here => None,
            ThingPresence::Away { since, why } => Some((since, why)),
        });
        let away = away.filter(|_| !here).max_by_key(|(since, _)| *since);
        let away = away.map(|(since, why)| (since, gone(why)));
        // What was never found is judged by its devices alone.
        let silent = || devices.iter().filter_map(|device| self.devices.away_since(device)).max();
        let away = away.or_else(|| if here { None } else { silent().map(|since| (since, SILENT)) });
        let address = first.map(|thing| thing.address);
        let hardware = first
            .and_then(|thing| self.places.iter().find(|place| place.id == thing.id)?.hardware)
            .or_else(|| devices.iter().find_map(|device| device.hardware()));
        let times = found.iter().map(|thing| (thing.found, thing.heard));
        let seen = devices.iter().map(|device| (device.first_seen, device.last_seen));
        let times: Vec<_> = times.chain(seen).collect();
        Some(NetworkThing {
            key: match (found.first(), devices.first()) {
                (Some(thing), _) => format!("n{}", thing.id),
                (None, device) => format!("d{}", device?.id),
            },
            label,
            roles: roles.iter().map(|role| role.word().to_owned()).collect(),
            presence: match (here, away) {
                (true, _) => "here",
                (false, Some(_)) => "away",
                (false, None) => "unknown",
            }
            .to_owned(),
            away_since_ms: away.map(|(since, _)| ms(since)),
            away_why: away.map(|(_, why)| why.to_owned()),
            address: address.or_else(|| devices.first().map(|d| d.address()))?.to_string(),
            hardware: hardware.map(|hardware| hardware.to_string()),
            this_computer: false,
            first_ms: times.iter().map(|(first, _)| ms(*first)).min()?,
            last_ms: times.iter().map(|(_, last)| ms(*last)).max()?,
            devices: devices
                .iter()
                .filter_map(|device| {
                    Some(ThingDevice {
                        id: device.id.0,
                        label: device.label(),
                        standing: device.stands()?.word().to_owned(),
                    })
                })
                .collect(),
            found: found.iter().map(|thing| self.found_thing(thing)).collect(),
        })
    }

    fn found_thing(&self, thing: &Thing) -> FoundThing {
        let described = thing.described();
        let text = |of: fn(&mostra_core::found::Described) -> &String| {
            described.map(of).filter(|text| !text.is_empty()).cloned()
        };
        let services = described.map(|described| described.services.as_slice()).unwrap_or_default();
        FoundThing {
            id: thing.id.0,
            name: text(|d| &d.name),
            maker: text(|d| &d.maker),
            model: text(|d| &d.model),
            version: text(|d| &d.version),
            roles: thing.roles().iter().map(|role| role.word().to_owned()).collect(),
            device_type: text(|d| &d.device_type),
            location: thing.location.clone(),
            udns: thing.udns.iter().cloned().collect(),
            server: thing.server.clone(),
            services: services
                .iter()
                .map(|service| ThingService {
                    kind: service.kind.to_string(),
                    control: service.control.clone(),
                    event: service.event.clone(),
                    document: service.document.clone(),
                })
                .collect(),
            presentation: described.and_then(|described| described.presentation.clone()),
            icon: self.network.found.icon(thing.id).is_some(),
            abilities: described
                .and_then(|described| described.abilities.as_ref())
                .map(device_view::abilities),
            directory_answers: described.and_then(|described| described.directory_answers),
            problem: match &thing.documents {
                Documents::Failed(why) => Some(why.to_string()),
                Documents::Unread | Documents::Read(_) => None,
            },
        }
    }
}

/// How it is known of a device that is no thing found.
const SILENT: &str = "it answers neither a search nor the question for its hardware address (ARP)";

/// How it is known that something is away.
fn gone(why: Gone) -> &'static str {
    match why {
        Gone::ByeBye => "it said that it leaves",
        Gone::Expired => "it announced itself no more",
        Gone::NoAnswer => "it answers neither a search nor at its address",
        Gone::Interface => "the interface by which it was found is down",
        Gone::Room => "it made room for others",
    }
}
