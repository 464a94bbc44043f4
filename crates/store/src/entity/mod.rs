//! The tables, one module each.

macro_rules! entity {
    ($(#[$doc:meta])* $module:ident, $table:literal, { $($body:tt)* }) => {
        $(#[$doc])*
        pub(crate) mod $module {
            use sea_orm::entity::prelude::*;

            #[derive(
                Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize, serde::Deserialize,
            )]
            #[sea_orm(table_name = $table)]
            pub(crate) struct Model { $($body)* }

            #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
            pub(crate) enum Relation {}

            impl ActiveModelBehavior for ActiveModel {}
        }
    };
}

entity!(/// House settings by name.
    setting, "setting", {
    #[sea_orm(primary_key, auto_increment = false)]
    pub name: String,
    #[sea_orm(column_type = "Text")]
    pub value: String,
});

entity!(/// Published folders.
    folder, "folder", {
    #[sea_orm(primary_key, auto_increment = false)]
    pub id: i64,
    pub label: String,
    pub root: String,
    pub kinds: String,
    pub container_id: i64,
    pub added_ms: i64,
    pub scanned_ms: Option<i64>,
    pub excluded: Json,
    pub link_rule: String,
    pub links: Json,
    pub drives: Option<Json>,
});

entity!(/// Directories, whose serials are part of object ids.
    container, "container", {
    #[sea_orm(primary_key, auto_increment = false)]
    pub id: i64,
    pub folder_id: i64,
    pub parent_id: Option<i64>,
    pub name: String,
});

entity!(/// Files with their facts.
    file, "file", {
    #[sea_orm(primary_key, auto_increment = false)]
    pub id: i64,
    pub container_id: i64,
    pub name: String,
    #[sea_orm(column_type = "Text")]
    pub facts: String,
});

entity!(/// What the last scan of a folder left out.
    left_out, "left_out", {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub folder_id: i64,
    #[sea_orm(column_type = "Text")]
    pub path: String,
    #[sea_orm(column_type = "Text")]
    pub reason: String,
});

entity!(/// Playlists with their entries' serials.
    playlist, "playlist", {
    #[sea_orm(primary_key, auto_increment = false)]
    pub id: i64,
    pub container_id: i64,
    pub name: String,
    pub stamp_ms: i64,
    pub entries: Json,
});

entity!(/// What each scan did.
    scan_report, "scan_report", {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub folder_id: i64,
    pub began_ms: i64,
    pub ended_ms: i64,
    pub why: String,
    pub added: i64,
    pub changed: i64,
    pub gone: i64,
    #[sea_orm(column_type = "Text")]
    pub files: String,
});

entity!(/// Where somebody stopped in a file, and whether they have seen it.
    position, "position", {
    #[sea_orm(primary_key, auto_increment = false)]
    pub account: String,
    #[sea_orm(primary_key, auto_increment = false)]
    pub file_id: i64,
    pub position_ms: i64,
    pub seen: bool,
    pub at_ms: i64,
});

entity!(/// Devices.
    device, "device", {
    #[sea_orm(primary_key, auto_increment = false)]
    pub id: i64,
    pub name: Option<String>,
    pub user_agent: Option<String>,
    pub standing: String,
    pub kinds: String,
    pub folders: Option<Json>,
    pub update_offset: i64,
    pub first_seen_ms: i64,
    pub last_seen_ms: i64,
    pub traits: Json,
    pub rules: Json,
    pub denied_ms: Option<i64>,
    pub denied: Option<String>,
    pub decided: bool,
    pub udns: Json,
    pub described_name: Option<String>,
    pub kind: Option<String>,
    pub room: Option<String>,
    pub note: Option<String>,
    pub asked_ms: Option<i64>,
    pub by_doorway_ms: Option<i64>,
});

entity!(/// The ways by which devices are reached.
    endpoint, "endpoint", {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub device_id: i64,
    pub hardware: Option<String>,
    pub address: String,
    pub last_seen_ms: i64,
});

entity!(/// What devices did or were refused, in the order in which it was noted; append only.
    sighting, "sighting", {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub device_id: i64,
    pub contact: String,
    pub first_ms: i64,
    pub last_ms: i64,
    pub times: i64,
    pub proves: bool,
    #[sea_orm(column_type = "Text")]
    pub act: String,
});

entity!(/// Decisions on devices, append only.
    decision, "decision", {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub device_id: i64,
    pub at_ms: i64,
    pub who: String,
    pub what: String,
    #[sea_orm(column_type = "Text", nullable)]
    pub why: Option<String>,
    pub before: Option<Json>,
});

entity!(/// Confirmed steps of the proof ladder.
    proof, "proof", {
    #[sea_orm(primary_key, auto_increment = false)]
    pub device_id: i64,
    #[sea_orm(primary_key, auto_increment = false)]
    pub step: String,
    pub at_ms: i64,
    #[sea_orm(column_type = "Text")]
    pub what: String,
    pub item: Option<String>,
    pub bytes: Option<i64>,
});

entity!(/// Accounts of the console.
    account, "account", {
    #[sea_orm(primary_key, auto_increment = false)]
    pub name: String,
    #[sea_orm(column_type = "Text")]
    pub password_hash: String,
});

entity!(/// Signed-in sessions; only the token's hash is kept.
    session, "session", {
    #[sea_orm(primary_key, auto_increment = false)]
    pub token_hash: Vec<u8>,
    pub account: String,
    pub expires_ms: i64,
    pub began_ms: i64,
    pub program: bool,
});

entity!(/// Walkthroughs of devices.
    walkthrough, "walkthrough", {
    #[sea_orm(primary_key, auto_increment = false)]
    pub id: i64,
    pub device_id: i64,
    pub started_ms: i64,
    pub finished_ms: Option<i64>,
    #[sea_orm(column_type = "JsonBinary")]
    pub noted: Json,
});
