//! The JSON types that service and client share, with their OpenAPI schemas.
//!
//! Times are Unix milliseconds, sizes bytes, rates bits a second (of streams: bytes), durations milliseconds,
//! unless a field's name says otherwise.

mod catalogue;
mod devices;
mod exposure;
mod folders;
mod handover;
mod house;
mod network;
mod preflight;
mod problem;
mod recordings;
mod records;
mod seen_by;
mod streams;
mod walkthroughs;
mod words;

pub use catalogue::{
    CatalogueObject, CataloguePage, Continued, FoundGroup, ObjectFacts, Position, Track,
};
pub use devices::{
    ActiveDevice, Decision, DecisionRequest, Denied, Device, DeviceAbout, DeviceMerge, DeviceName,
    DeviceSplit, DeviceTraits, Endpoint, KindProof, NewDevice, Preset, PresetGrant, ProofStep,
    ProposedKind, Sighting,
};
pub use exposure::{AccountExposure, AdmittedDevice, Exposure, FolderExposure, Listener, Wide};
pub use folders::{
    Excluded, Folder, FolderMove, FollowedLinks, KindCounts, LeftOut, LeftOutList, LinkChoice,
    NewFolder, Place, Places, Rescan, Scan, ScanChange, ScanReport, ScanReports, ScanState,
};
pub use handover::{
    AppliedHouse, Handover, HandoverDevice, HandoverFolder, HandoverSetting, HouseChangePlan,
    NotApplied,
};
pub use house::{
    Account, AccountSession, AccountUse, AddressKeys, Code, ConfigChange, ConfigValue,
    ConsoleAccess, House, HouseChange, HouseOff, Interface, LastTold, LiveEvent, Login, NewAccount,
    NewPassword, OffProof, Preferences, Session, Setup, Status, SwitchOff, Webhook, WebhookChange,
};
pub use network::{
    ActionAnswer, ActionArgument, ActionCall, FoundThing, NamedValue, NetworkSearch, NetworkThing,
    NetworkView, OfferedAction, Outsider, RendererAbilities, ServiceActions, StateVariable,
    ThingDevice, ThingService, ToldVariable, WatchedState,
};
pub use preflight::{Preflight, PreflightCheck};
pub use problem::Problem;
pub use recordings::{Conversation, ConversationEntry, NewRecording, Recording};
pub use records::{
    CheckedRecords, RecordCounts, RecordsState, RestoredRecords, SavedFolder, SavedRecords,
};
pub use seen_by::{SeenBy, SeenObject, SeenResource};
pub use streams::{ConsolePlaying, HostLoad, NowPlaying, Stream, StreamList};
pub use walkthroughs::{
    Answer, Cause, EarlierWalkthrough, Question, Taking, TestPieces, Walkthrough, WalkthroughList,
    WalkthroughStep, WalkthroughSummary,
};
pub use words::{DeviceDirections, Explanation};
