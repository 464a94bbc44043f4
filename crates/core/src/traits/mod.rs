//! What one device needs done differently, as data (requirements 12).
//!
//! Traits come from two places: [`Rule`]s that a device matches by what it does or says, and
//! what a person set for it, which wins. They change what a device is shown, never the ids.

use std::collections::{BTreeMap, BTreeSet};
use std::net::Ipv4Addr;

use serde::{Deserialize, Serialize};

mod captions;
mod error;

pub use captions::{CaptionElement, CaptionField};
pub use error::{RuleError, TraitsError};

/// A part of the traits that may say nothing, and is then filled from what lies below it.
trait TraitLayer {
    /// It says nothing.
    const ABSENT: Self;

    fn is_absent(&self) -> bool;

    fn fill_from(&mut self, below: &Self);
}

impl<T: Clone> TraitLayer for Option<T> {
    const ABSENT: Option<T> = None;

    fn is_absent(&self) -> bool {
        self.is_none()
    }

    fn fill_from(&mut self, below: &Option<T>) {
        if self.is_none() {
            self.clone_from(below);
        }
    }
}

impl<T: Clone> TraitLayer for Vec<T> {
    const ABSENT: Vec<T> = Vec::new();

    fn is_absent(&self) -> bool {
        self.is_empty()
    }

    fn fill_from(&mut self, below: &Vec<T>) {
        if self.is_empty() {
            self.clone_from(below);
        }
    }
}

impl<T: Clone> TraitLayer for BTreeMap<String, T> {
    const ABSENT: BTreeMap<String, T> = BTreeMap::new();

    fn is_absent(&self) -> bool {
        self.is_empty()
    }

    fn fill_from(&mut self, below: &BTreeMap<String, T>) {
        for (name, value) in below {
            self.entry(name.clone()).or_insert_with(|| value.clone());
        }
    }
}

/// How a trait is explained to people; `docs/traits.md` has the same table.
#[derive(Debug, Clone, Copy)]
pub struct Explanation {
    /// Its name, with underscores where people write hyphens.
    pub name: &'static str,
    /// What its value looks like.
    pub value: &'static str,
    /// What it does.
    pub effect: &'static str,
}

macro_rules! traits {
    ($($(#[doc = $doc:literal])+ $name:ident: $type:ty, $value:literal, $effect:literal;)+) => {
        /// What is done differently; what is absent is done as for everybody.
        #[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
        #[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
        pub struct Traits {
            $($(#[doc = $doc])+ #[serde(skip_serializing_if = "TraitLayer::is_absent")] pub $name: $type,)+
        }

        /// Those of a device of which nothing is known.
        pub static PLAIN: Traits = Traits { $($name: TraitLayer::ABSENT,)+ };

        impl Traits {
            /// All of them, for people.
            pub const EXPLANATIONS: &'static [Explanation] = &[
                $(Explanation { name: stringify!($name), value: $value, effect: $effect },)+
            ];

            /// These traits, and those of `below` where these say nothing.
            pub fn over(mut self, below: &Traits) -> Traits {
                $(self.$name.fill_from(&below.$name);)+
                self
            }
        }
    };
}

// To add a trait: one entry here, its row in docs/traits.md, and what it does in `present::fit`.
traits! {
    /// Most objects in one page (IOP-3).
    page_objects: Option<u32>,
        r#"number"#,
        r#"most objects in one page"#;
    /// Most bytes of DIDL-Lite in one page (IOP-16).
    page_bytes: Option<u32>,
        r#"number"#,
        r#"most bytes of a page's DIDL-Lite"#;
    /// Most objects in one container; larger ones are shown in parts (IOP-15).
    container_objects: Option<u32>,
        r#"number, 10 or more"#,
        r#"a container with more objects than this is shown in parts, `001-100 Anchor … Dune`; parts are not searched"#;
    /// Most bytes of a title, below the usual 200 (IOP-14).
    title_bytes: Option<u16>,
        r#"number, 8 or more"#,
        r#"cuts titles to this many bytes (never more than 200)"#;
    /// Whether titles of items end in the file's extension (IOP-13).
    title_extension: Option<bool>,
        r#"true"#,
        r#"titles of items end in the file's extension"#;
    /// Whether titles in albums begin with the track's number (IOP-22).
    title_track: Option<bool>,
        r#"true"#,
        r#"titles in albums begin with the track's number"#;
    /// Another MIME type in place of one of ours (IOP-4, PROF-14).
    mimes: BTreeMap<String, String>,
        r#"`{"ours": "theirs"}`"#,
        r#"another MIME type, in `res`, Source and Content-Type alike"#;
    /// MIME types, as sent, whose `res` come first, in this order (CDS-27).
    first: Vec<String>,
        r#"`["image/jpeg"]`"#,
        r#"the `res` of these MIME types come first"#;
    /// Whether only the first `res` is sent (IOP-19).
    one_resource: Option<bool>,
        r#"true"#,
        r#"only the first `res` is sent"#;
    /// Whether thumbnails of pictures are sent as `res` (IOP-20).
    thumbnails: Option<bool>,
        r#"false"#,
        r#"thumbnails of pictures are not sent as `res`"#;
    /// What stands in the fourth field of protocolInfo.
    features: Option<Features>,
        r#"`verified`, `nearest`, `any`"#,
        r#"the fourth field of protocolInfo: a profile only where it was verified; the nearest one; or `*`"#;
    /// The largest `res@size` that it takes; larger ones are left out (IOP-30).
    largest_size: Option<u64>,
        r#"number"#,
        r#"`res@size` above this is left out"#;
    /// Whether names in SortCriteria that we do not sort by are passed over (IOP-23).
    pass_over_sort: Option<bool>,
        r#"true"#,
        r#"unknown names in SortCriteria are passed over"#;
    /// Fixed ids that it asks for without having been given them (REG-6); an id that is neither
    /// ours nor here searches from the root.
    aliases: BTreeMap<String, Alias>,
        r#"`{"4": {"container": "music-all", "class": "object.item.audioItem"}}`"#,
        r#"fixed ids that the device asks for; an id that is nowhere else searches from the root"#;
    /// Whether HEAD with Range gets 206 (HTTP-12).
    head_range: Option<bool>,
        r#"true"#,
        r#"HEAD with Range gets 206"#;
    /// Whether what has no length ends with the connection, and is not sent in chunks (HTTP-34).
    ends_by_close: Option<bool>,
        r#"true"#,
        r#"stations end with the connection, and are not sent in chunks"#;
    /// The field in which it wants to be told where the subtitles of a film are (CDS-60).
    caption_field: Option<CaptionField>,
        r#"`{"asked": "getCaptions.example", "answer": "Captions.example"}`"#,
        r#"names the address of a film's subtitles in this field of the answer, when the request has the other one (or always, without `asked`)"#;
    /// The element in which it reads of them in a listing (CDS-60).
    caption_element: Option<CaptionElement>,
        r#"`{"namespace": "http://example.com/ns", "name": "ex:captions", "attributes": {"ex:form": "{form}"}, "value": "{url}"}`"#,
        r#"an element of its own in a film's listing that names the address of its subtitles; `{url}` and `{form}` (`srt` or `vtt`) are filled in; `attributes` and `value` may be left out"#;
}

impl Default for Traits {
    fn default() -> Traits {
        PLAIN.clone()
    }
}

/// What stands in the fourth field of protocolInfo.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Features {
    /// A profile only where every limit of it was verified, as for everybody (PROF-3).
    Verified,
    /// The profile of the format that comes nearest, knowingly (IOP-17).
    Nearest,
    /// `*`, for those who pass over profiles that they do not know (IOP-18).
    Any,
}

/// What a fixed id stands for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Alias {
    /// The id of one of our containers.
    pub container: String,
    /// Only objects of this class or below it, as `object.item.audioItem`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub class: Option<String>,
}

impl Traits {
    /// Whether nothing is done differently.
    pub fn is_plain(&self) -> bool {
        *self == PLAIN
    }

    /// Whether what these say can be sent (SEC-17).
    ///
    /// # Errors
    /// What cannot be.
    pub fn check(&self) -> Result<(), TraitsError> {
        let is_mime = |text: &str| {
            let (kind, rest) = text.split_once('/').unwrap_or_default();
            let plain = |t: &str| {
                !t.is_empty()
                    && t.bytes().all(|b| b.is_ascii_alphanumeric() || b"-+.;=_".contains(&b))
            };
            plain(kind) && plain(rest) && text.len() <= 100
        };
        let mimes = self.mimes.iter().flat_map(|(a, b)| [a, b]).chain(&self.first);
        if let Some(wrong) = mimes.into_iter().find(|m| !is_mime(m)) {
            return Err(TraitsError::Mime(wrong.clone()));
        }
        let is_id = |text: &str| {
            !text.is_empty()
                && text.len() <= 64
                && text.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_".contains(&b))
        };
        if let Some(wrong) = self.aliases.keys().find(|id| !is_id(id)) {
            return Err(TraitsError::Alias(wrong.clone()));
        }
        if self.container_objects.is_some_and(|most| most < 10) {
            return Err(TraitsError::SmallParts);
        }
        if self.caption_field.as_ref().is_some_and(|field| !field.is_usable()) {
            return Err(TraitsError::CaptionField);
        }
        if let Some(element) = &self.caption_element {
            element.check()?;
        }
        let zero = [self.page_objects, self.page_bytes].contains(&Some(0));
        if zero || self.title_bytes.is_some_and(|bytes| bytes < 8) {
            return Err(TraitsError::SmallPage);
        }
        Ok(())
    }
}

/// By what a device is recognised. All that is given must hold in one request.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct When {
    /// Its User-Agent holds this, in any case.
    pub user_agent: Option<String>,
    /// It sends a field of this name.
    pub field: Option<String>,
    /// It is at this address.
    pub address: Option<Ipv4Addr>,
    /// It has asked the registrar.
    pub registrar: Option<bool>,
}

/// What is done differently for devices that do or say something.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rule {
    /// Its name.
    pub name: String,
    /// By what a device is recognised.
    pub when: When,
    /// What is then done.
    pub traits: Traits,
}

/// What is seen of a device in one request.
pub struct Observed<'a> {
    /// Its address.
    pub address: Ipv4Addr,
    /// Its User-Agent.
    pub user_agent: Option<&'a str>,
    /// Whether it sent a field of this name.
    pub field: &'a dyn Fn(&str) -> bool,
    /// Whether it asked the registrar.
    pub registrar: bool,
}

impl When {
    fn holds(&self, seen: &Observed<'_>) -> bool {
        let agent = |part: &String| {
            seen.user_agent.is_some_and(|a| a.to_lowercase().contains(&part.to_lowercase()))
        };
        let something = self.user_agent.is_some()
            || self.field.is_some()
            || self.address.is_some()
            || self.registrar.is_some();
        something
            && self.user_agent.as_ref().is_none_or(agent)
            && self.field.as_ref().is_none_or(|name| (seen.field)(name))
            && self.address.is_none_or(|address| address == seen.address)
            && self.registrar.is_none_or(|asked| asked == seen.registrar)
    }
}

/// All rules; of two that say different things of a trait the earlier one counts.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rules {
    /// In order.
    #[serde(default, rename = "rule")]
    pub rules: Vec<Rule>,
}

impl Rules {
    /// Whether every rule can be used.
    ///
    /// # Errors
    /// The rule, and what is wrong with it.
    pub fn check(&self) -> Result<(), RuleError> {
        let mut names = BTreeSet::new();
        for rule in &self.rules {
            let name = || rule.name.clone();
            if !names.insert(&rule.name) {
                return Err(RuleError::Twice(name()));
            }
            if rule.when == When::default() {
                return Err(RuleError::Always(name()));
            }
            rule.traits.check().map_err(|why| RuleError::Traits(name(), why))?;
        }
        Ok(())
    }

    /// Names of the rules that a request matches, beyond those known.
    pub fn matched(&self, seen: &Observed<'_>, known: &BTreeSet<String>) -> Vec<String> {
        let new = self.rules.iter().filter(|r| !known.contains(&r.name) && r.when.holds(seen));
        new.map(|rule| rule.name.clone()).collect()
    }

    /// The traits of a device that a person set some of and that matched these rules.
    pub fn resolve(&self, set: &Traits, matched: &BTreeSet<String>) -> Traits {
        let rules = self.rules.iter().filter(|r| matched.contains(&r.name));
        rules.fold(set.clone(), |traits, rule| traits.over(&rule.traits))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seen<'a>(agent: Option<&'a str>, field: &'a dyn Fn(&str) -> bool) -> Observed<'a> {
        Observed { address: [192, 0, 2, 60].into(), user_agent: agent, field, registrar: false }
    }

    fn rule(name: &str, when: When, traits: Traits) -> Rule {
        Rule { name: name.into(), when, traits }
    }

    #[test]
    fn a_rule_matches_by_all_that_it_names() {
        let when = When {
            user_agent: Some("exampleplayer".into()),
            field: Some("x-example".into()),
            ..When::default()
        };
        let rules = Rules { rules: vec![rule("a", when, Traits::default())] };
        let none = BTreeSet::new();
        let agent = Some("ExampleOS/1.0 ExamplePlayer/2");
        assert!(rules.matched(&seen(agent, &|_| false), &none).is_empty());
        assert!(rules.matched(&seen(None, &|_| true), &none).is_empty());
        assert_eq!(rules.matched(&seen(agent, &|n| n == "x-example"), &none), ["a"]);
        let known = BTreeSet::from(["a".to_owned()]);
        assert!(rules.matched(&seen(agent, &|_| true), &known).is_empty(), "known already");
    }

    #[test]
    fn what_a_person_set_wins_and_earlier_rules_win() {
        let traits = |n, mime: &str| Traits {
            page_objects: Some(n),
            mimes: BTreeMap::from([("audio/flac".into(), mime.into())]),
            ..Traits::default()
        };
        let rules = Rules {
            rules: vec![
                rule("a", When::default(), traits(10, "audio/x-flac")),
                rule(
                    "b",
                    When::default(),
                    Traits { title_bytes: Some(40), ..traits(20, "audio/b") },
                ),
            ],
        };
        let both = BTreeSet::from(["a".to_owned(), "b".to_owned()]);
        let set = Traits { page_objects: Some(5), ..Traits::default() };
        let resolved = rules.resolve(&set, &both);
        assert_eq!(resolved.page_objects, Some(5));
        assert_eq!(resolved.mimes["audio/flac"], "audio/x-flac");
        assert_eq!(resolved.title_bytes, Some(40));
        assert!(rules.resolve(&Traits::default(), &BTreeSet::new()).is_plain());
    }

    #[test]
    fn what_cannot_be_sent_is_refused() {
        let mimes = |a: &str, b: &str| Traits {
            mimes: BTreeMap::from([(a.into(), b.into())]),
            ..Traits::default()
        };
        assert!(mimes("audio/flac", "audio/x-flac").check().is_ok());
        assert!(mimes("audio/flac", "audio/x\r\nX-Evil: 1").check().is_err());
        assert!(mimes("audio/flac", "noise").check().is_err());
        assert!(Traits { page_objects: Some(0), ..Traits::default() }.check().is_err());
        let nameless = rule("n", When::default(), Traits::default());
        assert!(Rules { rules: vec![nameless] }.check().unwrap_err().to_string().contains("when"));
    }
}
