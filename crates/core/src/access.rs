//! Access is decided here and nowhere else.
//!
//! Whatever shows or opens an item takes a [`Pass`], and a pass has two sources: the decision
//! for a device, and a signed-in account. Its fields are private, so no handler can make one:
//!
//! ```compile_fail,E0451
//! use mostra_core::access::{Grant, Pass};
//! let forged = Pass { grant: Grant::everything() };
//! ```
//!
//! Nor is there a default to fall back to:
//!
//! ```compile_fail,E0277
//! fn needs_default<T: Default>() {}
//! needs_default::<mostra_core::access::Pass>();
//! ```
//!
//! Browsing without a pass does not compile:
//!
//! ```compile_fail,E0061
//! # use mostra_core::catalogue::Catalogue;
//! fn list(catalogue: &Catalogue) {
//!     let _ = catalogue.object("0");
//! }
//! ```
//!
//! A file's place is known only to one who shows a pass:
//!
//! ```compile_fail,E0451
//! use mostra_core::catalogue::Located;
//! let path = Located { root: "/etc".into(), path: "/etc/passwd".into() };
//! ```
//!
//! And this is the road that does compile, so that the examples above fail for the reason
//! given and no other:
//!
//! ```
//! use mostra_core::access::{Decision, Grant, Standing, decide};
//! use mostra_core::catalogue::Catalogue;
//! use mostra_core::ids::UpdateId;
//! let catalogue = Catalogue::new("q3v9d0", UpdateId(1));
//! let Decision::Admitted(pass) = decide(Standing::Admitted, &Grant::everything()) else { panic!() };
//! assert!(catalogue.object(&pass, "0").is_some());
//! ```

use std::collections::BTreeSet;
use std::fmt;

use crate::account::SignedIn;
use crate::ids::FolderId;
use crate::kind::{Kind, Kinds};

/// A device's state with the house.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Standing {
    /// Asked, and nobody has decided yet.
    Waiting,
    /// Let in.
    Admitted,
    /// Kept out.
    Refused,
}

impl Standing {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Standing::Waiting => "waiting",
            Standing::Admitted => "admitted",
            Standing::Refused => "refused",
        }
    }

    /// Reads [`word`](Self::word).
    pub fn from_word(word: &str) -> Option<Standing> {
        [Standing::Waiting, Standing::Admitted, Standing::Refused]
            .into_iter()
            .find(|s| s.word() == word)
    }
}

/// The rule for devices that ask for the first time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Doorway {
    /// They are admitted.
    Open,
    /// They wait for a decision.
    Ask,
    /// They are turned away without waiting, as long as the doorway is closed.
    Closed,
}

impl Doorway {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Doorway::Open => "open",
            Doorway::Ask => "ask",
            Doorway::Closed => "closed",
        }
    }

    /// Reads [`word`](Self::word).
    pub fn from_word(word: &str) -> Option<Doorway> {
        [Doorway::Open, Doorway::Ask, Doorway::Closed].into_iter().find(|d| d.word() == word)
    }

    /// The standing of a device never met before.
    pub fn first_standing(self) -> Standing {
        match self {
            Doorway::Open => Standing::Admitted,
            Doorway::Ask => Standing::Waiting,
            Doorway::Closed => Standing::Refused,
        }
    }
}

/// What an admitted device may see.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Grant {
    /// The kinds.
    pub kinds: Kinds,
    /// The folders, by serial; `None` for all, also those to come.
    pub folders: Option<BTreeSet<FolderId>>,
}

impl Grant {
    /// Every kind and every folder.
    pub fn everything() -> Grant {
        Grant { kinds: Kinds::ALL, folders: None }
    }

    /// This grant with what a person chose of it anew; the rest stays as it was.
    pub fn with(self, chosen: Chosen) -> Grant {
        Grant {
            kinds: chosen.kinds.unwrap_or(self.kinds),
            folders: chosen.folders.unwrap_or(self.folders),
        }
    }
}

/// What a person chooses of a grant. What is left out stays as it is: whoever lets a device in
/// again, or gives it a name, does not widen what it may see by that.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Chosen {
    /// The kinds.
    pub kinds: Option<Kinds>,
    /// The folders, by serial; `Some(None)` for all, also those to come.
    pub folders: Option<Option<BTreeSet<FolderId>>>,
}

impl fmt::Display for Grant {
    /// `video,music`, `video in folder 1` or `video in folders 1,4`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.kinds)?;
        let Some(folders) = &self.folders else { return Ok(()) };
        let numbers: Vec<String> = folders.iter().map(FolderId::to_string).collect();
        let word = if numbers.len() == 1 { "folder" } else { "folders" };
        write!(f, " in {word} {}", numbers.join(","))
    }
}

/// The right to see and open what a grant covers. See the [module](self) for its sources.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pass {
    grant: Grant,
    /// Whether the test pieces are covered, of the kinds that the grant has.
    test_pieces: bool,
}

impl Pass {
    /// The pass of somebody signed in at the console: everything.
    pub fn for_account(_: &SignedIn) -> Pass {
        Pass { grant: Grant::everything(), test_pieces: false }
    }

    /// The part of this pass that a grant covers as well. It can only become narrower.
    pub fn within(&self, grant: &Grant) -> Pass {
        let kinds = Kinds::of(self.grant.kinds.iter().filter(|kind| grant.kinds.holds(*kind)));
        let folders = match (&self.grant.folders, &grant.folders) {
            (Some(a), Some(b)) => Some(a.intersection(b).copied().collect()),
            (a, b) => a.clone().or_else(|| b.clone()),
        };
        Pass { grant: Grant { kinds, folders }, test_pieces: self.test_pieces }
    }

    /// This pass, and the test pieces of the same kinds: that of a device while it is walked through.
    pub fn with_test_pieces(self) -> Pass {
        Pass { test_pieces: true, ..self }
    }

    /// Whether it covers the test pieces.
    pub fn covers_test_pieces(&self) -> bool {
        self.test_pieces
    }

    /// Whether an item of this kind in this folder is covered.
    pub fn covers(&self, folder: FolderId, kind: Kind) -> bool {
        self.grant.kinds.holds(kind) && self.covers_folder(folder)
    }

    /// Whether anything in this folder may be covered.
    pub fn covers_folder(&self, folder: FolderId) -> bool {
        match folder {
            FolderId::TEST_PIECES => self.test_pieces,
            folder => self.grant.folders.as_ref().is_none_or(|f| f.contains(&folder)),
        }
    }

    /// Whether it covers every folder that a person published, now and later.
    pub fn covers_all(&self) -> bool {
        self.grant.kinds == Kinds::ALL && self.grant.folders.is_none()
    }
}

/// The answer to *may this device?*
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Decision {
    /// Yes, within the pass.
    Admitted(Pass),
    /// Not yet.
    Waiting,
    /// No.
    Refused,
}

/// Decides for a device.
pub fn decide(standing: Standing, grant: &Grant) -> Decision {
    match standing {
        Standing::Admitted => Decision::Admitted(Pass { grant: grant.clone(), test_pieces: false }),
        Standing::Waiting => Decision::Waiting,
        Standing::Refused => Decision::Refused,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::Session;
    use mostra_protocol::Moment;

    fn grant(kinds: &[Kind], folders: Option<&[u32]>) -> Grant {
        Grant {
            kinds: Kinds::of(kinds.iter().copied()),
            folders: folders.map(|serials| serials.iter().copied().map(FolderId).collect()),
        }
    }

    fn pass(grant: &Grant) -> Pass {
        let Decision::Admitted(pass) = decide(Standing::Admitted, grant) else {
            panic!("an admitted device has a pass")
        };
        pass
    }

    fn signed_in() -> SignedIn {
        let session = Session {
            token_hash: [7; 32],
            account: "Marlo".into(),
            began: Moment::EPOCH,
            expires: Moment::from_secs(60),
            program: false,
        };
        SignedIn::check(&session, &[7; 32], Moment::from_secs(1)).unwrap()
    }

    #[test]
    fn words_read_back_and_are_what_people_read() {
        for standing in [Standing::Waiting, Standing::Admitted, Standing::Refused] {
            assert_eq!(Standing::from_word(standing.word()), Some(standing));
        }
        for doorway in [Doorway::Open, Doorway::Ask, Doorway::Closed] {
            assert_eq!(Doorway::from_word(doorway.word()), Some(doorway));
        }
        assert_eq!((Standing::Refused.word(), Doorway::Ask.word()), ("refused", "ask"));
        assert_eq!((Standing::from_word(""), Doorway::from_word("")), (None, None));
    }

    #[test]
    fn only_an_admitted_device_has_a_pass() {
        let everything = Grant::everything();
        assert_eq!(decide(Standing::Waiting, &everything), Decision::Waiting);
        assert_eq!(decide(Standing::Refused, &everything), Decision::Refused);
        assert!(pass(&everything).covers_all());
        assert_eq!(Doorway::Open.first_standing(), Standing::Admitted);
        assert_eq!(Doorway::Ask.first_standing(), Standing::Waiting);
    }

    #[test]
    fn a_pass_covers_its_kinds_in_its_folders_and_nothing_else() {
        let music_in_2 = pass(&grant(&[Kind::Music], Some(&[2])));
        assert!(
            music_in_2.covers(FolderId(2), Kind::Music) && music_in_2.covers_folder(FolderId(2))
        );
        assert!(!music_in_2.covers(FolderId(2), Kind::Video));
        assert!(
            !music_in_2.covers(FolderId(1), Kind::Music) && !music_in_2.covers_folder(FolderId(1))
        );
        assert!(!music_in_2.covers_all());
        assert!(!pass(&grant(&[Kind::Music], None)).covers_all());
        assert!(
            !pass(&Grant { folders: Some([FolderId(2)].into()), ..Grant::everything() })
                .covers_all()
        );
        assert!(Pass::for_account(&signed_in()).covers_all());
    }

    #[test]
    fn test_pieces_are_covered_only_where_they_are_given() {
        let music = pass(&grant(&[Kind::Music], Some(&[2])));
        let pieces = FolderId::TEST_PIECES;
        assert!(!music.covers(pieces, Kind::Music) && !music.covers_test_pieces());
        assert!(!pass(&Grant::everything()).covers_folder(pieces));
        assert!(!Pass::for_account(&signed_in()).covers_folder(pieces));
        let walked = music.with_test_pieces();
        assert!(walked.covers(pieces, Kind::Music) && !walked.covers(pieces, Kind::Video));
        assert!(walked.covers_folder(FolderId(2)) && !walked.covers_folder(FolderId(1)));
    }

    #[test]
    fn a_pass_only_becomes_narrower() {
        let wide = pass(&grant(&[Kind::Music, Kind::Video], Some(&[1, 2])));
        let narrow = wide.within(&grant(&[Kind::Music, Kind::Picture], Some(&[2, 3])));
        assert_eq!(narrow, pass(&grant(&[Kind::Music], Some(&[2]))));
        assert_eq!(wide.within(&Grant::everything()), wide);
        let music = grant(&[Kind::Music], Some(&[1]));
        assert_eq!(pass(&Grant::everything()).within(&music), pass(&music));
    }

    #[test]
    fn what_is_not_chosen_stays_as_it_was() {
        let before = grant(&[Kind::Music], Some(&[1]));
        assert_eq!(before.clone().with(Chosen::default()), before);
        let kinds = Chosen { kinds: Some(Kinds::of([Kind::Video])), folders: None };
        assert_eq!(before.clone().with(kinds), grant(&[Kind::Video], Some(&[1])));
        let folders = Chosen { kinds: None, folders: Some(None) };
        assert_eq!(before.with(folders), grant(&[Kind::Music], None));
    }

    #[test]
    fn a_grant_in_words() {
        let words = |folders| grant(&[Kind::Video], folders).to_string();
        assert_eq!(words(None), "video");
        assert_eq!(words(Some(&[1])), "video in folder 1");
        assert_eq!(words(Some(&[1, 4])), "video in folders 1,4");
    }
}
