//! Devices as the API shows them.

use std::collections::{BTreeSet, HashMap};
use std::net::Ipv4Addr;

use mostra_api::{
    Denied, Device as ApiDevice, Endpoint, KindProof, ProofStep, ProposedKind, RendererAbilities,
};
use mostra_app::clock::ms;
use mostra_app::devices::{Devices, kind_of, seems};
use mostra_app::network::Network;
use mostra_core::Kind;
use mostra_core::device::{self, Device, DeviceKind};
use mostra_core::found::{Abilities, Described, Role};
use mostra_core::proof::{Ladder, Step};
use mostra_core::traits::Traits;

/// What devices are shown with: what was found at their addresses, and who makes them.
pub(crate) struct DeviceView<'a> {
    devices: &'a Devices,
    described: HashMap<Ipv4Addr, Vec<Described>>,
}

impl DeviceView<'_> {
    /// Looks what is known now. Devices are cloned before they are shown, so that no two locks are
    /// held at one time.
    pub(crate) fn new<'a>(devices: &'a Devices, network: &Network) -> DeviceView<'a> {
        let mut described: HashMap<Ipv4Addr, Vec<Described>> = HashMap::new();
        for thing in network.found.book().things() {
            if let Some(said) = thing.described() {
                described.entry(thing.address).or_default().push(said.clone());
            }
        }
        DeviceView { devices, described }
    }

    /// A device.
    pub(crate) fn of(&self, device: &Device) -> ApiDevice {
        let proof = Step::ALL.map(|step| to_step(&device.proof.ladder, step));
        let of_kind = |kind: Kind| {
            let ladder = device.proof.of_kind(kind);
            ladder.confirmed().next()?;
            let steps = Step::of_kind(kind);
            Some(KindProof {
                kind: kind.word().to_owned(),
                steps: steps.map(|step| to_step(ladder, step)).collect(),
            })
        };
        let hardware = device.hardware();
        let here = self.here(device);
        ApiDevice {
            id: device.id.0,
            label: device.label(),
            name: device.name.clone(),
            described_name: device.described_name.clone(),
            device_kind: device.kind.map(|kind| kind.word().to_owned()),
            proposed_kind: self.proposed(device),
            room: device.room.clone(),
            note: device.note.clone(),
            address: device.address().to_string(),
            hardware: hardware.map(|h| h.to_string()),
            private_hardware: hardware.is_some_and(device::Hardware::is_private),
            maker: hardware.and_then(|h| self.devices.maker(h)).map(str::to_owned),
            roles: roles(here, device).iter().map(|role| role.word().to_owned()).collect(),
            model: here.iter().find_map(model),
            abilities: here.iter().find_map(|said| said.abilities.as_ref()).map(abilities),
            asked_ms: device.asked.map(ms),
            by_doorway_ms: device.by_doorway.map(ms),
            endpoints: device.endpoints.iter().map(endpoint).collect(),
            udns: device.udns.iter().cloned().collect(),
            user_agent: device.user_agent.clone(),
            standing: device.stands().map_or("none", |standing| standing.word()).into(),
            kinds: device.grant.kinds.iter().map(|k| k.word().to_owned()).collect(),
            folders: device.grant.folders.as_ref().map(|f| f.iter().map(|id| id.0).collect()),
            first_seen_ms: ms(device.first_seen),
            last_seen_ms: ms(device.last_seen),
            away_since_ms: self.devices.away_since(device).map(ms),
            unsaved: self.devices.is_unsaved(device.id),
            proof: proof.into(),
            kind_proof: Kind::ALL.into_iter().filter_map(of_kind).collect(),
            denied: device
                .denied
                .as_ref()
                .map(|denied| Denied { at_ms: ms(denied.at), what: denied.attempt.to_string() }),
            traits: by_name(&device.shown),
            traits_set: by_name(&device.traits),
            rules: device.rules.iter().cloned().collect(),
        }
    }

    /// What the things at its address say of themselves.
    fn here(&self, device: &Device) -> &[Described] {
        self.described.get(&device.address()).map(Vec::as_slice).unwrap_or_default()
    }

    /// What sort of device it is: as a person confirmed, else as it seems.
    pub(crate) fn kind_of(&self, device: &Device) -> Option<DeviceKind> {
        kind_of(device, self.here(device))
    }

    /// What sort of device it seems to be.
    fn proposed(&self, device: &Device) -> Option<ProposedKind> {
        let (kind, why) = seems(device, self.here(device))?;
        Some(ProposedKind { kind: kind.word().to_owned(), why })
    }
}

/// What it is for: as it describes itself, and by what it does.
fn roles(here: &[Described], device: &Device) -> BTreeSet<Role> {
    let mut roles: BTreeSet<Role> = here.iter().flat_map(|said| said.roles.clone()).collect();
    if device.asked.is_some() || device.proof.ladder.proof(Step::Read).is_some() {
        roles.insert(Role::Player);
        roles.remove(&Role::Other);
    }
    roles
}

/// The model and its version.
fn model(said: &Described) -> Option<String> {
    let words = [said.model.as_str(), said.version.as_str()].map(str::trim);
    let words: Vec<&str> = words.into_iter().filter(|word| !word.is_empty()).collect();
    (!words.is_empty()).then(|| words.join(" "))
}

/// What a renderer can do.
pub(crate) fn abilities(can: &Abilities) -> RendererAbilities {
    RendererAbilities {
        formats: can.formats.clone(),
        pauses: can.pauses,
        seeks: can.seeks,
        next: can.next,
        volume: can.volume,
        mute: can.mute,
    }
}

fn to_step(ladder: &Ladder, step: Step) -> ProofStep {
    let proof = ladder.proof(step);
    ProofStep {
        step: step.word().into(),
        confirmed: proof.is_some(),
        proves: step.proves().to_owned(),
        at_ms: proof.map(|p| ms(p.at)),
        what: proof.map(|p| p.evidence.to_string()),
        item: proof.and_then(|p| p.item.clone()),
        bytes: proof.and_then(|p| p.bytes),
    }
}

fn endpoint(endpoint: &device::Endpoint) -> Endpoint {
    Endpoint {
        hardware: endpoint.hardware.map(|hardware| hardware.to_string()),
        address: endpoint.address.to_string(),
        last_seen_ms: ms(endpoint.last_seen),
    }
}

fn by_name(traits: &Traits) -> serde_json::Map<String, serde_json::Value> {
    match serde_json::to_value(traits) {
        Ok(serde_json::Value::Object(map)) => map,
        _ => serde_json::Map::new(),
    }
}
