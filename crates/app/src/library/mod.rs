//! The library: published folders, the catalogue made of them, and their files.

pub mod files;
mod folders;
mod moving;
pub mod pictures;
pub mod pictures_ahead;
pub mod places;
mod positions;
pub mod rights;
pub mod scan;
mod shown;
pub mod stations;
mod test_pieces;
pub mod volume_pool;

use std::path::PathBuf;
use std::sync::{Arc, PoisonError, RwLock};

use mostra_core::Locale;
use mostra_core::catalogue::{Catalogue, CatalogueOptions, PictureOrder, Titles};
use mostra_core::ids::UpdateId;
use mostra_core::station::Allowed;
use mostra_store::{Counter, StoreError};

pub use folders::FolderError;
pub use shown::SharedCatalogue;
pub use test_pieces::TestPieceState;

use crate::context::{Context, Topic};
use crate::devices::Devices;
use crate::not_saved::Saving;
use crate::random::random_word;
use files::Files;
use pictures::Pictures;
use scan::{ScanBoard, Serials};
use stations::Stations;

/// What an installation chooses for the library.
#[derive(Debug, Clone)]
pub struct LibraryOptions {
    /// Where the service keeps its own files, of which none is published.
    pub data: PathBuf,
    /// Seconds between looks at folders that cannot be watched.
    pub poll_seconds: u64,
    /// Whether folders are scanned only when somebody asks.
    pub scan_when_asked: bool,
    /// Whether test pieces are made and shown to devices that are being walked through.
    pub test_pieces: bool,
}

/// Published folders and what is in them.
pub struct Library {
    context: Context,
    options: LibraryOptions,
    devices: Arc<Devices>,
    catalogue: Arc<SharedCatalogue>,
    /// Held over a change of the records and the catalogue together; the last update id that is
    /// reserved.
    changing: tokio::sync::Mutex<UpdateId>,
    /// Held while a folder is noted as away or back and its items are hidden or shown.
    presence: tokio::sync::Mutex<()>,
    /// Scans.
    pub scans: ScanBoard,
    /// Numbers for new files and directories.
    serials: tokio::sync::Mutex<Serials>,
    /// Access to the files.
    pub files: Files,
    /// Pictures of things.
    pub pictures: Pictures,
    /// Passing stations on.
    pub stations: Stations,
    /// Where the service may connect to for stations.
    allowed_stations: RwLock<Allowed>,
    test_pieces: test_pieces::TestPieceMaker,
}

/// Reads what the catalogue begins with: an empty one, with the options and the ids of this
/// database, and the last update id that is reserved for it.
///
/// # Errors
/// [`StoreError`] when the records do not answer or are damaged.
pub async fn first_catalogue(context: &Context) -> Result<(Catalogue, UpdateId), StoreError> {
    let records = &context.records;
    // Marks the ids of this database: 30 random bits, six characters.
    let epoch = records.setting_or("epoch", &random_word(6)).await?;
    let titles = records.setting_or("titles", Titles::default().word()).await?;
    let pictures = records.setting_or("picture_order", PictureOrder::default().word()).await?;
    let locale = records.setting_or("locale", Locale::default().word()).await?;
    let options = CatalogueOptions {
        titles: Titles::from_word(&titles).unwrap_or_default(),
        pictures: PictureOrder::from_word(&pictures).unwrap_or_default(),
        locale: Locale::from_word(&locale).unwrap_or_default(),
        mimes: records.json_setting("mimes").await?.unwrap_or_default(),
    };
    let first = UpdateId(records.reserve(Counter::UpdateId, shown::UPDATE_IDS).await?);
    let last = first.plus(shown::UPDATE_IDS - 1);
    Ok((Catalogue::new(&epoch, first).with_options(options), last))
}

impl Library {
    /// Notes whether what scans found is recorded.
    pub(crate) fn note_scans_saved(&self) {
        self.context.note_saving(Saving::Scans, self.scans.not_saved());
    }

    /// A library that shows what `catalogue` holds, of which update ids up to `last_id` are
    /// reserved. Folders are loaded later ([`load`](Self::load)).
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer or are damaged.
    pub async fn open(
        context: Context,
        options: LibraryOptions,
        devices: Arc<Devices>,
        catalogue: Arc<SharedCatalogue>,
        last_id: UpdateId,
    ) -> Result<Library, StoreError> {
        let stations: Option<Vec<String>> = context.records.json_setting("stations").await?;
        let stations = stations.unwrap_or_default();
        let pictures = Pictures::new(&options.data);
        Ok(Library {
            context,
            options,
            devices,
            catalogue,
            changing: tokio::sync::Mutex::new(last_id),
            presence: tokio::sync::Mutex::default(),
            scans: ScanBoard::default(),
            serials: tokio::sync::Mutex::default(),
            files: Files::default(),
            pictures,
            stations: Stations::default(),
            allowed_stations: RwLock::new(Allowed::new(stations).unwrap_or_default()),
            test_pieces: test_pieces::TestPieceMaker::default(),
        })
    }

    /// The catalogue as it is now.
    pub fn catalogue(&self) -> Arc<Catalogue> {
        self.catalogue.get()
    }

    /// How the catalogue is shown, and whether it is loaded.
    pub fn shared(&self) -> &SharedCatalogue {
        &self.catalogue
    }

    /// Whether folders are scanned only when somebody asks.
    pub fn scans_when_asked(&self) -> bool {
        self.options.scan_when_asked
    }

    /// The threads by which the drive of a path is asked.
    pub fn pool_of(&self, path: &std::path::Path) -> Arc<volume_pool::VolumePool> {
        self.files.volumes.of(path)
    }

    /// The service's own directory.
    pub fn data(&self) -> &std::path::Path {
        &self.options.data
    }

    /// Where the service may connect to for stations.
    pub fn allowed_stations(&self) -> Allowed {
        self.allowed_stations.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Changes where the service may connect to for stations, durably; gives whether that is
    /// something else than before.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn allow_stations(&self, stations: Allowed) -> Result<bool, StoreError> {
        if self.allowed_stations() == stations {
            return Ok(false);
        }
        let list = serde_json::to_string(stations.entries())
            .map_err(|e| StoreError::Damaged(e.to_string()))?;
        self.context.records.set_setting("stations", &list).await?;
        *self.allowed_stations.write().unwrap_or_else(PoisonError::into_inner) = stations;
        self.context.changed(Topic::House);
        Ok(true)
    }
}
