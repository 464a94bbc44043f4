use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What is on the network.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NetworkView {
    /// The last search.
    pub search: NetworkSearch,
    /// What was found and who asked, things first in the order in which they were found.
    pub things: Vec<NetworkThing>,
    /// Those who asked from where this house serves nobody, the latest first.
    pub outsiders: Vec<Outsider>,
    /// Things that found no room.
    pub dropped: u64,
}

/// The last search for what is there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NetworkSearch {
    /// When it went out; left out before the first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_ms: Option<u64>,
    /// Whether its answers may still come.
    pub running: bool,
}

/// A thing on the network, a device, or both as one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NetworkThing {
    /// By what it is asked for: `n` and a number of something found, or `d` and one of a device.
    pub key: String,
    /// The name to show.
    pub label: String,
    /// What it is for: `renderer`, `server`, `player`, `router`, `other`.
    pub roles: Vec<String>,
    /// `here`, `away` or `unknown`.
    pub presence: String,
    /// Since when it is away.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub away_since_ms: Option<u64>,
    /// How that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub away_why: Option<String>,
    /// Its address.
    pub address: String,
    /// Its hardware address, where the system knows it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hardware: Option<String>,
    /// Whether it is a program on the host of this house.
    pub this_computer: bool,
    /// When it was first found or seen.
    pub first_ms: u64,
    /// When it was last heard or seen.
    pub last_ms: u64,
    /// Its devices, which have a standing; several where a person has not said that they are one.
    pub devices: Vec<ThingDevice>,
    /// What its documents say, each document's a part.
    pub found: Vec<FoundThing>,
}

/// The standing of a thing on the network.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ThingDevice {
    /// The device's number.
    pub id: u32,
    /// Its name.
    pub label: String,
    /// Its standing.
    pub standing: String,
}

/// What one description says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FoundThing {
    /// Its number, as long as the service runs.
    pub id: u32,
    /// Its name; left out until its description was read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Who made it, as it says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub maker: Option<String>,
    /// Its model.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<String>,
    /// The model's number or version.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// What it is for.
    pub roles: Vec<String>,
    /// Its device type.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device_type: Option<String>,
    /// Where its description is.
    pub location: String,
    /// The UDNs that it announces.
    pub udns: Vec<String>,
    /// What its datagrams call its software.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub server: Option<String>,
    /// Its services.
    pub services: Vec<ThingService>,
    /// Where its own page is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub presentation: Option<String>,
    /// Whether its icon is at `/network/found/{id}/icon`.
    pub icon: bool,
    /// What it can do, of a renderer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub abilities: Option<RendererAbilities>,
    /// Whether its content directory answers, of a server.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub directory_answers: Option<bool>,
    /// Why its description is not known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
}

/// A service of a thing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ThingService {
    /// Its type.
    #[serde(rename = "type")]
    pub kind: String,
    /// Where its actions are called; left out where that leads to another host.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub control: Option<String>,
    /// Where one subscribes to it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub event: Option<String>,
    /// Where its document is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub document: Option<String>,
}

/// What a renderer can do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RendererAbilities {
    /// The MIME types that it says it plays.
    pub formats: Vec<String>,
    /// Whether it pauses.
    pub pauses: bool,
    /// Whether it goes to a place in what it plays.
    pub seeks: bool,
    /// Whether it takes the next item before the current one ends.
    pub next: bool,
    /// Whether its volume can be set.
    pub volume: bool,
    /// Whether it can be muted.
    pub mute: bool,
}

/// Somebody who asked from where this house serves nobody.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Outsider {
    /// Their address, as it says.
    pub address: String,
    /// What they did, as a sentence.
    pub what: String,
    /// When they did so first.
    pub first_ms: u64,
    /// When they did so last.
    pub last_ms: u64,
    /// How many times.
    pub times: u32,
}

/// What a service can do, as its document says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ServiceActions {
    /// Its actions.
    pub actions: Vec<OfferedAction>,
    /// Its state variables.
    pub variables: Vec<StateVariable>,
}

/// An action of a service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OfferedAction {
    /// Its name.
    pub name: String,
    /// Whether it only reads, by its name; any other may change something.
    pub only_reads: bool,
    /// Its in arguments, in order.
    pub inputs: Vec<ActionArgument>,
    /// The names of its out arguments, in order.
    pub outputs: Vec<String>,
}

/// An in argument of an action.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ActionArgument {
    /// Its name.
    pub name: String,
    /// The values allowed; empty for any.
    #[serde(default)]
    pub allowed: Vec<String>,
    /// The smallest number allowed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub least: Option<i64>,
    /// The largest number allowed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most: Option<i64>,
}

/// A state variable of a service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StateVariable {
    /// Its name.
    pub name: String,
    /// Whether changes of it are sent to subscribers.
    pub evented: bool,
}

/// The state variables of a service, as its events tell them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WatchedState {
    /// How the subscription stands: asking, granted, silent or failed.
    pub subscription: String,
    /// Why it failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
    /// Events that came.
    pub events: u32,
    /// How many times events were missed.
    pub missed: u32,
    /// The variables that were told, by name.
    pub variables: Vec<ToldVariable>,
}

/// A state variable as it was told last.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ToldVariable {
    /// Its name.
    pub name: String,
    /// Its channel, where it is not the only one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub channel: Option<String>,
    /// Its value.
    pub value: String,
    /// When it was told.
    pub told_ms: u64,
}

/// A call of an action.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ActionCall {
    /// The action.
    pub action: String,
    /// Its in arguments.
    #[serde(default)]
    pub arguments: Vec<NamedValue>,
    /// Whether it is wanted that the action changes something.
    #[serde(default)]
    pub changes: bool,
}

/// A name and a value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NamedValue {
    /// The name.
    pub name: String,
    /// The value.
    pub value: String,
}

/// A call with its answer, as they were sent and received.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ActionAnswer {
    /// Where the call was sent.
    pub url: String,
    /// The fields that were sent.
    pub fields: Vec<NamedValue>,
    /// The body that was sent.
    pub request: String,
    /// The HTTP status of the answer.
    pub status: u16,
    /// The fields of the answer.
    pub answer_fields: Vec<NamedValue>,
    /// The body of the answer.
    pub answer: String,
    /// Whether the answer is longer and was cut at 1 MiB.
    pub cut: bool,
    /// The out arguments.
    pub outputs: Vec<NamedValue>,
    /// What failed, where it did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fault: Option<String>,
    /// How long the answer took.
    pub took_ms: u64,
    /// The same call as a line for a shell.
    pub curl: String,
}
