use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::StreamList;

/// The house's own settings.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct House {
    /// The name that televisions show.
    pub name: String,
    /// The rule for devices never met before: `ask` or `open`.
    pub doorway: String,
    /// The server's UDN.
    pub udn: String,
    /// Where titles come from: `embedded` or `file-names`.
    pub titles: String,
    /// How pictures stand: by `date` or `title`.
    pub picture_order: String,
    /// The language by whose alphabet names stand, as `sv`; `en` for all with accents aside.
    #[serde(default)]
    pub locale: String,
    /// The languages to choose from.
    #[serde(default)]
    pub locales: Vec<String>,
    /// MIME types by file-name extension that replace the usual ones.
    pub mimes: BTreeMap<String, String>,
    /// The hosts to which the service may connect to pass on stations of playlists: names,
    /// `*.` and a name for all below it, or addresses; with a port if only that one.
    #[serde(default)]
    pub stations: Vec<String>,
    /// Since when it is off, if it is: devices do not find it, and nothing is streamed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub off: Option<HouseOff>,
}

/// Since when a house is off, and until when.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HouseOff {
    /// When it was switched off, Unix milliseconds.
    pub since_ms: u64,
    /// When it is on again by itself; without it, when somebody says so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until_ms: Option<u64>,
    /// What shows that it is off; left out until that was tried, some seconds later.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proof: Option<OffProof>,
}

/// What shows that a house is off: it was asked from outside, as a player would.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OffProof {
    /// When that was tried.
    pub at_ms: u64,
    /// Whether byebye was said and nothing answers.
    pub silent: bool,
    /// How many times byebye was said.
    pub byebyes: u32,
    /// On how many interfaces the house was searched for.
    pub searched: u32,
    /// On how many of them something of it answered.
    pub answered: u32,
    /// At how many of its addresses its port still took a connection.
    pub reached: u32,
}

/// A house to be switched off.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SwitchOff {
    /// When it is on again by itself, Unix milliseconds, at most ten years ahead; without it, when
    /// somebody says so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until_ms: Option<u64>,
}

/// A change of house settings; what is left out stays.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HouseChange {
    /// The new name, 1 to 63 characters.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(min_length = 1, max_length = 63)]
    pub name: Option<String>,
    /// The new doorway: `ask`, `open` or `closed`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(pattern = "^(ask|open)$")]
    pub doorway: Option<String>,
    /// Where titles come from: `embedded` or `file-names`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(pattern = "^(embedded|file-names)$")]
    pub titles: Option<String>,
    /// How pictures stand: by `date` or `title`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(pattern = "^(date|title)$")]
    pub picture_order: Option<String>,
    /// The language by whose alphabet names stand.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub locale: Option<String>,
    /// All MIME types by extension that replace the usual ones.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mimes: Option<BTreeMap<String, String>>,
    /// All hosts to which the service may connect for stations.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stations: Option<Vec<String>>,
}

/// An interface address by which devices reach the house.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Interface {
    /// The interface's name.
    pub name: String,
    /// The device listener's address and port there.
    pub address: String,
    /// Whether the house can be found by search there; if not, why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub discovery_problem: Option<String>,
}

/// How the house is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Status {
    /// The house.
    pub house: House,
    /// The service's version.
    pub version: String,
    /// When it started.
    pub started_ms: u64,
    /// Where devices reach it.
    pub interfaces: Vec<Interface>,
    /// Items in the catalogue.
    pub items: u64,
    /// Folders published.
    pub folders: u32,
    /// When the catalogue last changed, if it did since the start.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub changed_ms: Option<u64>,
    /// Devices waiting.
    pub waiting: u32,
    /// Devices admitted.
    pub admitted: u32,
    /// Devices refused.
    pub refused: u32,
    /// StreamList running.
    pub streams: u32,
    /// Whether the catalogue is loaded from the records.
    pub loaded: bool,
    /// Whether PostgreSQL answers.
    pub records: bool,
    /// What needs a person's attention, in sentences.
    pub attention: Vec<String>,
}

/// Whether this house still needs its first password.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Setup {
    /// True on first start.
    pub needed: bool,
    /// Whether an account made from here needs a one-time code.
    pub code_needed: bool,
}

/// An account to make.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewAccount {
    /// Its name, letters, digits, - _ or .; `house` for the first.
    #[serde(default)]
    #[schema(min_length = 1, max_length = 40, pattern = "^[A-Za-z0-9._-]+$")]
    pub name: Option<String>,
    /// Its password, 8 to 1000 characters.
    #[schema(min_length = 8, max_length = 1000)]
    pub password: String,
    /// The one-time code shown on the host, where one is needed.
    #[serde(default)]
    pub code: Option<String>,
}

/// Signing in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Login {
    /// The account; `house` if left out.
    #[serde(default)]
    pub name: Option<String>,
    /// The password.
    pub password: String,
    /// True for a program: the token comes back in the answer, and no cookie is set.
    #[serde(default)]
    pub token: bool,
}

/// A session.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Session {
    /// The account.
    pub account: String,
    /// For a page, when it signs in: the half of the session's token that it keeps, and sends as
    /// `X-Page-Secret` with every request.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub page_secret: Option<String>,
    /// For a page: what it makes the keys of addresses with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub addresses: Option<AddressKeys>,
    /// The token, for programs only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
}

/// What a page makes the keys of addresses with, that the browser fetches by itself. A key is the
/// session, a dot, and the HMAC-SHA-256 of the object by the secret, in hexadecimal digits. The object is
/// the path after `/api/v1`, of an item only `/catalogue/ID`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AddressKeys {
    /// The session's name.
    pub session: String,
    /// The secret, 32 bytes in hexadecimal digits.
    pub secret: String,
}

/// Who is signed in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Account {
    /// Its name.
    pub name: String,
}

/// An account and its use.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AccountUse {
    /// Its name.
    pub name: String,
    /// How many sessions it has.
    pub sessions: u32,
    /// Whether it is the one that asks.
    pub you: bool,
}

/// How an account wants the console shown.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Preferences {
    /// Whether the catalogue is a grid of pictures, and not a list.
    #[serde(default)]
    pub grid: bool,
}

/// A new password.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewPassword {
    /// 8 to 1000 characters.
    #[schema(min_length = 8, max_length = 1000)]
    pub password: String,
    /// The password until now, for one's own account.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub current: Option<String>,
}

/// A session that has not ended.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AccountSession {
    /// By what it is called here.
    pub id: String,
    /// The account.
    pub account: String,
    /// Whether a program has it, and not a browser.
    pub program: bool,
    /// When it began.
    pub began_ms: u64,
    /// When it ends by itself.
    pub expires_ms: u64,
    /// Whether it is the one that asks.
    pub you: bool,
}

/// From where the console can be reached.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConsoleAccess {
    /// Whether it is open to the house's network.
    pub open: bool,
    /// The addresses to type in there.
    #[serde(default)]
    pub addresses: Vec<String>,
    /// SHA-256 of the certificate, to compare with what the browser shows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fingerprint: Option<String>,
    /// When the certificate ends, in Unix milliseconds; another is made before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate_ends_ms: Option<u64>,
}

/// A one-time code for making an account.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Code {
    /// The code.
    pub code: String,
    /// Seconds for which it counts.
    pub seconds: u32,
}

/// A configuration value and where it came from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConfigValue {
    /// Its name in the file; `MOSTRA_` and the name in capitals in the environment.
    pub name: String,
    /// Its value; a secret is not shown.
    pub value: String,
    /// `flag`, `environment`, `console` (changed there or by the client), `file` or `default`.
    pub source: String,
    /// What it is for.
    pub about: String,
    /// Its value if nobody gives one.
    #[serde(default)]
    pub default: String,
    /// What it may be: `text`, `number`, `words` or `subnets`.
    #[serde(default)]
    pub form: String,
    /// The least number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub least: Option<u32>,
    /// The greatest number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most: Option<u32>,
    /// The words, one of which it is.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub words: Vec<String>,
    /// How a change takes effect: `at-once`, `after-restart`, or `on-the-host` where it is changed
    /// in the configuration file alone.
    #[serde(default)]
    pub takes: String,
    /// What it will be after a restart, where that differs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
    /// What is wrong with it in a file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
}

/// A new value of a setting.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConfigChange {
    /// The value.
    pub value: String,
}

/// What a live event says: the named part of the house changed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LiveEvent {
    /// `house`, `folders`, `catalogue`, `devices` or `streams`.
    pub topic: String,
    /// Of `streams`: all of them as they are now, so that nobody need ask.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub streams: Option<StreamList>,
}

/// Where it is told that a device waits.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Webhook {
    /// The address; left out: nowhere.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
    /// How that went the last time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last: Option<LastTold>,
}

/// How telling went.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LastTold {
    /// When.
    pub at_ms: u64,
    /// What went wrong; left out if it was taken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
}

/// Where it is to be told that a device waits.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WebhookChange {
    /// An address on the local network, as http://192.168.1.5:8000/path; left out or empty: nowhere.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
}
