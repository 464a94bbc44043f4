use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::network::RendererAbilities;

/// A step of the proof ladder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ProofStep {
    /// `seen`, `read`, `opened`, `listed`, `started`, `kept playing` or `skipped ahead`.
    pub step: String,
    /// Whether it is confirmed.
    pub confirmed: bool,
    /// What it proves, and what it does not.
    #[serde(default)]
    pub proves: String,
    /// When.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_ms: Option<u64>,
    /// What the device did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub what: Option<String>,
    /// The item's or container's title.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
    /// Bytes acknowledged.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
}

/// What is proven of a device with one kind of media.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KindProof {
    /// `video`, `music` or `picture`.
    pub kind: String,
    /// The steps from *listed* on.
    pub steps: Vec<ProofStep>,
}

/// One way by which a device is reached.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Endpoint {
    /// The hardware address, where the system knows it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hardware: Option<String>,
    /// The address last seen.
    pub address: String,
    /// When it was last seen.
    pub last_seen_ms: u64,
}

/// Another record of the same device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DeviceMerge {
    /// Its number; it is gone afterwards.
    pub other: u32,
}

/// A way by which a device is reached that is a device of its own.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DeviceSplit {
    /// Its hardware address, or its address.
    pub endpoint: String,
}

/// Something that a device did or was refused, once or several times.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Sighting {
    /// When it did so first.
    pub first_ms: u64,
    /// When it did so last.
    pub last_ms: u64,
    /// How many times.
    pub times: u32,
    /// What it did.
    pub what: String,
    /// What that has to do with: discovery, description, lists, media or events.
    pub group: String,
    /// Whether it failed or was refused.
    pub failed: bool,
    /// Whether it is the proof of something.
    pub proves: bool,
    /// The address or hardware address by which it did so.
    pub endpoint: String,
}

/// A device that did something within the last ten seconds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ActiveDevice {
    /// Its number.
    pub id: u32,
    /// What it is called.
    pub label: String,
    /// Its address.
    pub address: String,
    /// Its hardware address, where it is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hardware: Option<String>,
    /// When it did so.
    pub at_ms: u64,
    /// What it did.
    pub what: String,
}

/// What a device asked for in vain, as it is not let in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Denied {
    /// When it last did.
    pub at_ms: u64,
    /// What it did.
    pub what: String,
}

/// A device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Device {
    /// Its number.
    pub id: u32,
    /// The name to show.
    pub label: String,
    /// The name a person gave it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The name in its description.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub described_name: Option<String>,
    /// What sort of device it is, as a person confirmed: `television`, `console`, `disc-player`,
    /// `speaker`, `phone`, `tablet`, `computer` or `streaming-stick`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device_kind: Option<String>,
    /// What sort of device it seems to be, and why; left out where nothing tells.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proposed_kind: Option<ProposedKind>,
    /// The room a person says it is in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub room: Option<String>,
    /// What a person noted of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// Its address; `0.0.0.0` until it was seen.
    pub address: String,
    /// Its hardware address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hardware: Option<String>,
    /// Whether that is one the device made up: it can come back with another.
    #[serde(default)]
    pub private_hardware: bool,
    /// Who made it, by its hardware address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub maker: Option<String>,
    /// What it is for: `renderer`, `server`, `player`, `router`.
    #[serde(default)]
    pub roles: Vec<String>,
    /// The model that its description names, with its version.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<String>,
    /// What it can do as a renderer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub abilities: Option<RendererAbilities>,
    /// When it first asked for content.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub asked_ms: Option<u64>,
    /// When the doorway admitted it or turned it away, where no person decided.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by_doorway_ms: Option<u64>,
    /// All ways by which it is reached.
    #[serde(default)]
    pub endpoints: Vec<Endpoint>,
    /// The UDNs under which it announces itself.
    #[serde(default)]
    pub udns: Vec<String>,
    /// What it calls itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user_agent: Option<String>,
    /// `waiting`, `admitted` or `refused`; `none` where it never asked and nobody added it.
    pub standing: String,
    /// The kinds it may see when admitted.
    pub kinds: Vec<String>,
    /// The folders it may see when admitted, by number; left out: all, also those to come.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folders: Option<Vec<u32>>,
    /// When it was first seen.
    pub first_seen_ms: u64,
    /// When it was last seen.
    pub last_seen_ms: u64,
    /// Since when it answers neither a search nor the system's question for its hardware address;
    /// left out where it does, or where that cannot be told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub away_since_ms: Option<u64>,
    /// Whether something of it is not saved yet, as PostgreSQL takes nothing now: what was confirmed
    /// since then would be lost by a crash.
    #[serde(default)]
    pub unsaved: bool,
    /// Its proof, all steps in order.
    pub proof: Vec<ProofStep>,
    /// Its proof of each kind of which anything is proven, from *listed* on.
    #[serde(default)]
    pub kind_proof: Vec<KindProof>,
    /// What it last asked for in vain; only while it is not let in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub denied: Option<Denied>,
    /// What is done differently for it, by name (`docs/traits.md`).
    #[serde(default)]
    pub traits: serde_json::Map<String, serde_json::Value>,
    /// Of those, what a person set.
    #[serde(default)]
    pub traits_set: serde_json::Map<String, serde_json::Value>,
    /// The rules that it matched.
    #[serde(default)]
    pub rules: Vec<String>,
}

/// What is to be done differently for a device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DeviceTraits {
    /// All that a person sets, by name; what is left out goes by the rules.
    pub traits: serde_json::Map<String, serde_json::Value>,
}

/// A decision on a device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DecisionRequest {
    /// `waiting`, `admitted` or `refused`.
    #[schema(pattern = "^(waiting|admitted|refused)$")]
    pub standing: String,
    /// The kinds it may see; as before if left out, and all of a device that is new.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kinds: Option<Vec<String>>,
    /// The folders it may see, by number; as before if left out, and all of a device that is new.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folders: Option<Vec<u32>>,
    /// Whether it may see all folders, also those to come, whatever it was before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub all_folders: Option<bool>,
    /// A name for it; unchanged if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Why, for whoever reads the history; at most 255 characters.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// A preset whose grant it gets, in place of kinds and folders.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub preset: Option<String>,
}

/// A grant with a name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Preset {
    /// Its name.
    pub name: String,
    /// The kinds.
    pub kinds: Vec<String>,
    /// The folders, by number; left out: all, also those to come.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folders: Option<Vec<u32>>,
    /// Whether it is one of those that every house has.
    pub built_in: bool,
}

/// What a preset gives.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PresetGrant {
    /// The kinds.
    pub kinds: Vec<String>,
    /// The folders, by number; left out: all, also those to come.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folders: Option<Vec<u32>>,
}

/// What sort of device something seems to be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ProposedKind {
    /// The kind.
    pub kind: String,
    /// From what it is concluded.
    pub why: String,
}

/// What a person says of a device; what is left out stays, and what is empty is taken back.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DeviceAbout {
    /// What sort of device it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device_kind: Option<String>,
    /// The room it is in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub room: Option<String>,
    /// A note.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

/// A device that a person adds: by its hardware address, its address, or both.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewDevice {
    /// Its hardware address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hardware: Option<String>,
    /// Its address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// A name for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
}

/// A decision as it was recorded.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Decision {
    /// When.
    pub at_ms: u64,
    /// Who decided: an account, or the doorway.
    pub who: String,
    /// What.
    pub what: String,
    /// Why, in a person's words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// Whether it can be undone.
    pub can_be_undone: bool,
}

/// A device's name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DeviceName {
    /// 1 to 63 characters.
    #[schema(min_length = 1, max_length = 63, pattern = r"^[^\x00-\x1f\x7f]+$")]
    pub name: String,
}
