//! What lies beside a file and belongs to it.

use std::collections::HashMap;

use mostra_core::Kind;
use mostra_core::facts::Caption;
use mostra_core::format::FileClass;
use mostra_media::sidecar;
use mostra_media::walk::DirectoryListing;

/// What lies beside a file and belongs to it.
pub(super) struct SidecarIndex {
    captions: sidecar::Captions,
    /// Pictures by the lower-case stem of their names.
    pictures: HashMap<String, String>,
    pub has_media: bool,
}

impl SidecarIndex {
    pub(super) fn of(listing: &DirectoryListing) -> SidecarIndex {
        let mut sidecar_index = SidecarIndex {
            captions: sidecar::Captions::default(),
            pictures: HashMap::new(),
            has_media: false,
        };
        let mut pictures = Vec::new();
        for file in &listing.files {
            match sidecar::class_of(&file.name) {
                FileClass::Captions { .. } => sidecar_index.captions.put(&file.name),
                FileClass::Media(format) if format.kind() == Kind::Picture => {
                    if format.row().cover {
                        pictures.push(&file.name);
                    }
                }
                FileClass::Playlist | FileClass::Notes => {}
                FileClass::Media(_) | FileClass::Unknown => sidecar_index.has_media = true,
            }
        }
        // Among pictures alone none is the cover of another; what is behind a link may be a film.
        if sidecar_index.has_media || !listing.links.is_empty() {
            for name in pictures {
                let stem = name.rsplit_once('.').map_or("", |(stem, _)| stem);
                sidecar_index.pictures.entry(stem.to_lowercase()).or_insert(name.clone());
            }
        }
        sidecar_index
    }

    pub(super) fn of_file(&self, name: &str) -> (Vec<Caption>, Option<String>) {
        let kind = match sidecar::class_of(name) {
            FileClass::Media(format) => Some(format.kind()),
            _ => None,
        };
        if kind == Some(Kind::Picture) {
            return (Vec::new(), None);
        }
        let captions = if self.captions.is_empty() || kind == Some(Kind::Music) {
            Vec::new()
        } else {
            self.captions.of(name)
        };
        let stem = name.rsplit_once('.').map_or(name, |(stem, _)| stem).to_lowercase();
        let named = |stem: &str| self.pictures.get(stem).cloned();
        let art = named(&stem).or_else(|| sidecar::COVERS.into_iter().find_map(named));
        (captions, art)
    }
}
