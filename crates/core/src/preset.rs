//! Grants with a name, to be given to several devices.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use crate::access::{Chosen, Grant};
use crate::ids::FolderId;
use crate::kind::{Kind, Kinds};

/// Presets that persons make, at most.
pub const PRESETS: usize = 50;

/// A grant with a name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Preset {
    /// Its name.
    pub name: String,
    /// What it gives.
    pub grant: Grant,
    /// Whether it is one of those that every house has.
    pub built_in: bool,
}

impl Preset {
    /// All that it says of a grant.
    pub fn chosen(&self) -> Chosen {
        Chosen { kinds: Some(self.grant.kinds), folders: Some(self.grant.folders.clone()) }
    }
}

/// Those that every house has.
pub fn built_in() -> Vec<Preset> {
    let only = |name: &str, kind: Kind| (name.to_owned(), Kinds::of([kind]));
    let all = [
        ("everything".to_owned(), Kinds::ALL),
        only("films only", Kind::Video),
        only("music only", Kind::Music),
        only("pictures only", Kind::Picture),
    ];
    let preset =
        |(name, kinds)| Preset { name, grant: Grant { kinds, folders: None }, built_in: true };
    all.into_iter().map(preset).collect()
}

/// A person's presets, as they are recorded.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct OwnPresets(Vec<OwnPreset>);

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct OwnPreset {
    name: String,
    kinds: String,
    folders: Option<BTreeSet<FolderId>>,
}

/// Why a preset cannot be kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PresetError {
    /// Every house has one of that name.
    #[error("every house has a preset of that name")]
    BuiltIn,
    /// There are too many.
    #[error("there are {PRESETS} presets already")]
    Full,
}

impl OwnPresets {
    /// Those that every house has, and these, by name.
    pub fn with_built_in(&self) -> Vec<Preset> {
        let own = self.0.iter().filter_map(|own| {
            let grant = Grant { kinds: own.kinds.parse().ok()?, folders: own.folders.clone() };
            Some(Preset { name: own.name.clone(), grant, built_in: false })
        });
        built_in().into_iter().chain(own).collect()
    }

    /// The preset of a name, whatever its case.
    pub fn find(&self, name: &str) -> Option<Preset> {
        let name = name.trim().to_lowercase();
        self.with_built_in().into_iter().find(|preset| preset.name.to_lowercase() == name)
    }

    /// Keeps a preset, in place of another of its name.
    ///
    /// # Errors
    /// [`PresetError`] where it cannot be kept; then nothing changes.
    pub fn put(&mut self, name: &str, grant: &Grant) -> Result<(), PresetError> {
        let known = self.find(name);
        if known.as_ref().is_some_and(|preset| preset.built_in) {
            return Err(PresetError::BuiltIn);
        }
        if known.is_none() && self.0.len() >= PRESETS {
            return Err(PresetError::Full);
        }
        self.remove(name);
        let (kinds, folders) = (grant.kinds.to_string(), grant.folders.clone());
        self.0.push(OwnPreset { name: name.trim().to_owned(), kinds, folders });
        self.0.sort_by_key(|preset| preset.name.to_lowercase());
        Ok(())
    }

    /// Removes a preset; false if there is none of that name.
    pub fn remove(&mut self, name: &str) -> bool {
        let (before, name) = (self.0.len(), name.trim().to_lowercase());
        self.0.retain(|preset| preset.name.to_lowercase() != name);
        self.0.len() < before
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn presets_are_kept_replaced_and_found_and_those_of_every_house_stay() {
        let mut own = OwnPresets::default();
        let records =
            Grant { kinds: Kinds::of([Kind::Music]), folders: Some(BTreeSet::from([FolderId(3)])) };
        assert_eq!(own.put("Pictures only", &records), Err(PresetError::BuiltIn));
        own.put("For guests", &Grant::everything()).unwrap();
        own.put(" for GUESTS ", &records).unwrap();
        let found = own.find("for guests").unwrap();
        assert_eq!((found.grant, own.with_built_in().len()), (records.clone(), 5));
        let text = serde_json::to_string(&own).unwrap();
        assert_eq!(serde_json::from_str::<OwnPresets>(&text).unwrap(), own);
        assert!(own.remove("for guests") && !own.remove("for guests"));
        assert!(!own.remove("everything") && own.find("everything").is_some());
        for n in 0..PRESETS {
            own.put(&n.to_string(), &records).unwrap();
        }
        assert_eq!(own.put("one more", &records), Err(PresetError::Full));
        own.put("7", &Grant::everything()).unwrap();
    }
}
