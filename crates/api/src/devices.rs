use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A step of the proof ladder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ProofStep {
    /// `seen`, `read`, `opened`, `listed`, `started` or `skipped ahead`.
    pub step: String,
    /// Whether it is confirmed.
    pub confirmed: bool,
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
    /// Whether it failed or was refused.
    pub failed: bool,
    /// Whether it is the proof of something.
    pub proves: bool,
    /// The address or hardware address by which it did so.
    pub endpoint: String,
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
    /// Its address.
    pub address: String,
    /// Its hardware address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hardware: Option<String>,
    /// All ways by which it is reached.
    #[serde(default)]
    pub endpoints: Vec<Endpoint>,
    /// The UDNs under which it announces itself.
    #[serde(default)]
    pub udns: Vec<String>,
    /// What it calls itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user_agent: Option<String>,
    /// `waiting`, `admitted` or `refused`.
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
    /// Its proof, all six steps in order.
    pub proof: Vec<ProofStep>,
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
}

/// A device's name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DeviceName {
    /// 1 to 63 characters.
    #[schema(min_length = 1, max_length = 63, pattern = r"^[^\x00-\x1f\x7f]+$")]
    pub name: String,
}
