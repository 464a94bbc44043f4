use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A part of the catalogue as a device gets it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SeenBy {
    /// The device's number.
    pub device: u32,
    /// Its name.
    pub label: String,
    /// Its standing; one that is not let in sees a notice or nothing.
    pub standing: String,
    /// The first object, counted from 0.
    pub start: u32,
    /// How many there are in all.
    pub total: u32,
    /// The UpdateID that it is given.
    pub update_id: u32,
    /// The objects of this page, which is as large as a page for this device.
    pub objects: Vec<SeenObject>,
    /// The Result as it is sent, byte for byte (DIDL-Lite).
    pub result: String,
}

/// An object as a device gets it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SeenObject {
    /// `@id`.
    pub id: String,
    /// `dc:title`.
    pub title: String,
    /// `upnp:class`.
    pub class: String,
    /// Whether it is a container.
    pub container: bool,
    /// `@childCount`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub child_count: Option<u32>,
    /// What it offers, in the order in which the device gets it.
    pub resources: Vec<SeenResource>,
}

/// A `res` as a device gets it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SeenResource {
    /// Where it is.
    pub url: String,
    /// Its protocolInfo.
    pub protocol_info: String,
    /// Its bytes, where they are known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
}
