//! What one device needs done differently, as data (requirements 12).
//!
//! Traits come from two places: [`Rule`]s that a device matches by what it does or says, and
//! what a person set for it, which wins. They change what a device is shown, never the ids.

use std::collections::{BTreeMap, BTreeSet};
use std::net::Ipv4Addr;

use serde::{Deserialize, Serialize};

mod captions;

pub use captions::{CaptionElement, CaptionField};

/// What is done differently; what is absent is done as for everybody.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct Traits {
    /// Most objects in one page (IOP-3).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub page_objects: Option<u32>,
    /// Most bytes of DIDL-Lite in one page (IOP-16).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub page_bytes: Option<u32>,
    /// Most objects in one container; larger ones are shown in parts (IOP-15).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub container_objects: Option<u32>,
    /// Most bytes of a title, below the usual 200 (IOP-14).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title_bytes: Option<u16>,
    /// Whether titles of items end in the file's extension (IOP-13).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title_extension: Option<bool>,
    /// Whether titles in albums begin with the track's number (IOP-22).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title_track: Option<bool>,
    /// Another MIME type in place of one of ours (IOP-4, PROF-14).
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub mimes: BTreeMap<String, String>,
    /// MIME types, as sent, whose `res` come first, in this order (CDS-27).
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub first: Vec<String>,
    /// Whether only the first `res` is sent (IOP-19).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub one_resource: Option<bool>,
    /// Whether thumbnails of pictures are sent as `res` (IOP-20).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub thumbnails: Option<bool>,
    /// What stands in the fourth field of protocolInfo.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub features: Option<Features>,
    /// The largest `res@size` that it takes; larger ones are left out (IOP-30).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub largest_size: Option<u64>,
    /// Whether names in SortCriteria that we do not sort by are passed over (IOP-23).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pass_over_sort: Option<bool>,
    /// Fixed ids that it asks for without having been given them (REG-6); an id that is neither
    /// ours nor here searches from the root.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub aliases: BTreeMap<String, Alias>,
    /// Whether HEAD with Range gets 206 (HTTP-12).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub head_range: Option<bool>,
    /// Whether what has no length ends with the connection, and is not sent in chunks (HTTP-34).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ends_by_close: Option<bool>,
    /// The field in which it wants to be told where the subtitles of a film are (CDS-60).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub caption_field: Option<CaptionField>,
    /// The element in which it reads of them in a listing (CDS-60).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub caption_element: Option<CaptionElement>,
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

/// Those of a device of which nothing is known.
pub static PLAIN: Traits = Traits {
    page_objects: None,
    page_bytes: None,
    container_objects: None,
    title_bytes: None,
    title_extension: None,
    title_track: None,
    mimes: BTreeMap::new(),
    first: Vec::new(),
    one_resource: None,
    thumbnails: None,
    features: None,
    largest_size: None,
    pass_over_sort: None,
    aliases: BTreeMap::new(),
    head_range: None,
    ends_by_close: None,
    caption_field: None,
    caption_element: None,
};

impl Traits {
    /// These traits, and those of `below` where these say nothing.
    pub fn over(mut self, below: &Traits) -> Traits {
        fn keep<T: Clone>(mine: &mut Option<T>, below: &Option<T>) {
            if mine.is_none() {
                mine.clone_from(below);
            }
        }
        keep(&mut self.page_objects, &below.page_objects);
        keep(&mut self.page_bytes, &below.page_bytes);
        keep(&mut self.container_objects, &below.container_objects);
        keep(&mut self.title_bytes, &below.title_bytes);
        keep(&mut self.title_extension, &below.title_extension);
        keep(&mut self.title_track, &below.title_track);
        keep(&mut self.one_resource, &below.one_resource);
        keep(&mut self.thumbnails, &below.thumbnails);
        keep(&mut self.features, &below.features);
        keep(&mut self.largest_size, &below.largest_size);
        keep(&mut self.pass_over_sort, &below.pass_over_sort);
        keep(&mut self.head_range, &below.head_range);
        keep(&mut self.ends_by_close, &below.ends_by_close);
        keep(&mut self.caption_field, &below.caption_field);
        keep(&mut self.caption_element, &below.caption_element);
        if self.first.is_empty() {
            self.first.clone_from(&below.first);
        }
        for (ours, theirs) in &below.mimes {
            self.mimes.entry(ours.clone()).or_insert_with(|| theirs.clone());
        }
        for (id, alias) in &below.aliases {
            self.aliases.entry(id.clone()).or_insert_with(|| alias.clone());
        }
        self
    }

    /// Whether nothing is done differently.
    pub fn is_plain(&self) -> bool {
        *self == PLAIN
    }

    /// Whether what these say can be sent (SEC-17).
    ///
    /// # Errors
    /// A sentence that says what cannot be.
    pub fn check(&self) -> Result<(), String> {
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
            return Err(format!("{wrong:?} is no MIME type"));
        }
        let is_id = |text: &str| {
            !text.is_empty()
                && text.len() <= 64
                && text.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_".contains(&b))
        };
        if let Some(wrong) = self.aliases.keys().find(|id| !is_id(id)) {
            return Err(format!("{wrong:?} cannot be an object's id"));
        }
        if self.container_objects.is_some_and(|most| most < 10) {
            return Err("a container in parts holds at least 10 objects".into());
        }
        if self.caption_field.as_ref().is_some_and(|field| !field.is_usable()) {
            return Err("a field for subtitles has a dot in its name, or begins with X-".into());
        }
        if let Some(element) = &self.caption_element {
            element.check()?;
        }
        let zero = [self.page_objects, self.page_bytes].contains(&Some(0));
        if zero || self.title_bytes.is_some_and(|bytes| bytes < 8) {
            return Err("a page holds at least one object, and a title 8 bytes".into());
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
    /// A sentence that names the rule and says what is wrong with it.
    pub fn check(&self) -> Result<(), String> {
        let mut names = BTreeSet::new();
        for rule in &self.rules {
            let wrong = |why: &str| format!("rule {:?}: {why}", rule.name);
            if !names.insert(&rule.name) {
                return Err(wrong("another one has this name"));
            }
            if rule.when == When::default() {
                return Err(wrong("it does not say when"));
            }
            rule.traits.check().map_err(|why| wrong(&why))?;
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
        assert!(Rules { rules: vec![nameless] }.check().unwrap_err().contains("when"));
    }
}
