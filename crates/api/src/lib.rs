//! The JSON types that service and client share, with their OpenAPI schemas.
//!
//! Times are Unix milliseconds, sizes bytes, rates bits a second (of streams: bytes), durations milliseconds,
//! unless a field's name says otherwise.

mod catalogue;
mod devices;
mod folders;
mod house;
mod problem;
mod records;
mod streams;

pub use catalogue::{
    CatalogueObject, CataloguePage, Continued, FoundGroup, ObjectFacts, Position, Track,
};
pub use devices::{
    DecisionRequest, Denied, Device, DeviceMerge, DeviceName, DeviceSplit, DeviceTraits, Endpoint,
    ProofStep, Sighting,
};
pub use folders::{
    Excluded, Folder, FolderMove, KindCounts, LeftOut, LeftOutList, NewFolder, Place, Places,
    Rescan, Scan, ScanChange, ScanReport, ScanReports, ScanState,
};
pub use house::{
    Account, AccountSession, AccountUse, Code, ConfigChange, ConfigValue, ConsoleAccess, House,
    HouseChange, HouseOff, Interface, LiveEvent, Login, NewAccount, NewPassword, Preferences,
    Session, Setup, Status, SwitchOff,
};
pub use problem::Problem;
pub use records::{RecordCounts, RecordsState, RestoredRecords, SavedFolder, SavedRecords};
pub use streams::{ConsolePlaying, HostLoad, NowPlaying, Stream, StreamList};
