//! Terms of the field, each in one sentence: the same in the console, the client and the documents.

/// A term and what it means.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Term {
    /// The term.
    pub term: &'static str,
    /// What it means, as one sentence.
    pub means: &'static str,
}

const fn term(term: &'static str, means: &'static str) -> Term {
    Term { term, means }
}

/// All terms, in the order of the alphabet.
pub const TERMS: [Term; 34] = [
    term("admitted", "An admitted device may see and play what its grant covers."),
    term(
        "catalogue",
        "The catalogue is everything that this house offers, in the menus that televisions show.",
    ),
    term(
        "content directory",
        "The content directory is the service of a media server through which players list and search what it has.",
    ),
    term(
        "control point",
        "A control point looks for devices on the network and tells them what to do, such as an app on a phone that has a speaker play something.",
    ),
    term(
        "conversion",
        "A conversion is a file made fit for a device that cannot play it as it is; the field calls it transcoding.",
    ),
    term(
        "description",
        "The description is a document in which a device says its name, its maker and its services.",
    ),
    term(
        "device",
        "A device is something that asked this house for content, or that a person added.",
    ),
    term(
        "DLNA",
        "DLNA is a set of rules on top of UPnP by which televisions and servers agree on formats and on how they are sent.",
    ),
    term(
        "doorway",
        "The doorway is the rule for devices that ask for the first time: open lets them in, ask has them wait for you, closed turns them away.",
    ),
    term("folder", "A folder is a directory of this host whose media are published."),
    term("grant", "A grant says which kinds and which folders a device may see."),
    term(
        "hand-over",
        "The hand-over is the paper that the household keeps: its rule, its folders, its devices and what is proven of them.",
    ),
    term(
        "hardware address",
        "The hardware address, also called MAC address, is a number of a device's network adapter by which it is told apart wherever it is in the network.",
    ),
    term(
        "multicast",
        "Multicast is sending one message to all who listen in the network; some wireless routers drop it, and then devices do not find each other.",
    ),
    term(
        "outsider",
        "An outsider asked from an address that is in no network which this house serves, such as a guest network.",
    ),
    term(
        "player",
        "A player fetches media from a server by itself, as a television does from its source menu.",
    ),
    term(
        "preflight",
        "The preflight looks at what stands in the way of devices on this computer and in its network.",
    ),
    term(
        "private address",
        "A private address is a hardware address that a phone or tablet made up for this network; it can come back with another one and is then a new device.",
    ),
    term(
        "proof",
        "The proof of a device is what it really did: that it found, read, opened, listed and played.",
    ),
    term("refused", "A refused device gets nothing and no answer to its searches."),
    term(
        "renderer",
        "A renderer plays what a control point sends it and can be paused, made louder and stopped from outside.",
    ),
    term(
        "router",
        "A router connects the house's network with others, and often hands out the addresses in it.",
    ),
    term("server", "A media server offers media to players in the network, as this house does."),
    term("sighting", "A sighting is one thing that a device did or was refused, with its time."),
    term(
        "SSDP",
        "SSDP is the part of UPnP by which devices search for each other and announce themselves.",
    ),
    term("stand-in", "A stand-in is a program that behaves like a device, for trying things out."),
    term("standing", "The standing of a device is waiting, admitted or refused."),
    term(
        "subtitles",
        "Subtitles are the spoken words of a film as text, in the film's file or in one beside it.",
    ),
    term(
        "test piece",
        "A test piece is a film, a piece of music or a picture made here by which it is told whether a device plays.",
    ),
    term(
        "trait",
        "A trait is something that is done differently for one device because it needs that.",
    ),
    term(
        "transcoding",
        "Transcoding is making a file fit for a device that cannot play it as it is; here it is called conversion.",
    ),
    term(
        "UDN",
        "The UDN is the name by which a device calls itself in the network, the same for ever; it only says so, and anybody could say it.",
    ),
    term(
        "UPnP",
        "UPnP is the set of standards by which devices in a home network find each other and work together.",
    ),
    term(
        "walkthrough",
        "A walkthrough is the guided confirmation of one device: each step ticks when the device really does it.",
    ),
];

/// A term, whatever its case.
pub fn find(name: &str) -> Option<Term> {
    let name = name.trim();
    TERMS.into_iter().find(|term| term.term.eq_ignore_ascii_case(name))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn terms_are_in_order_and_explained_in_one_sentence() {
        assert!(TERMS.is_sorted_by_key(|term| term.term.to_lowercase()));
        for term in TERMS {
            let sentence = term.means.strip_suffix('.').unwrap_or_default();
            assert!(!sentence.is_empty() && !sentence.contains(". "), "{}", term.term);
            let named = term.means.to_lowercase().contains(&term.term.to_lowercase());
            assert!(named, "{} is not in its sentence", term.term);
        }
        assert_eq!(find(" dlna ").map(|term| term.term), Some("DLNA"));
        assert_eq!(find("kettle"), None);
    }
}
