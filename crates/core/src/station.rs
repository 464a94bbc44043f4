//! Stations: broadcasts that a playlist names by address, and where the service may connect to
//! pass them on (CDS-67, HTTP-41).

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use url::{Host, Position, Url};

use crate::format::Format;
use crate::shards::mix_text;

/// An `http` or `https` address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Address(Url);

impl Address {
    /// Reads an address. One with a user's name, with an IPv6 address or with blanks is none.
    pub fn parse(text: &str) -> Option<Address> {
        let text = text.trim();
        // The library would pass over these.
        if text.contains(|c: char| c.is_control() || c.is_whitespace() || c == '\\') {
            return None;
        }
        Address::of(Url::parse(text).ok()?)
    }

    fn of(url: Url) -> Option<Address> {
        let mut url = url;
        url.set_fragment(None);
        let host = match url.host()? {
            Host::Domain(name) => name.trim_end_matches('.').to_owned(),
            Host::Ipv4(_) => url.host_str()?.to_owned(),
            Host::Ipv6(_) => return None,
        };
        url.set_host(Some(&host)).ok()?;
        let named = !url.username().is_empty() || url.password().is_some();
        let plain = |b: u8| b.is_ascii_alphanumeric() || b"-._".contains(&b);
        let usable = matches!(url.scheme(), "http" | "https")
            && !named
            && host.bytes().all(plain)
            && url.port() != Some(0);
        usable.then_some(Address(url))
    }

    /// The address that a redirection from this one leads to.
    pub fn follow(&self, location: &str) -> Option<Address> {
        Address::of(self.0.join(location).ok()?)
    }

    /// The host's name or IPv4 address, in lower case.
    pub fn host(&self) -> &str {
        self.0.host_str().unwrap_or_default()
    }

    /// The port.
    pub fn port(&self) -> u16 {
        self.0.port_or_known_default().unwrap_or_default()
    }

    /// Path and query, beginning with `/`.
    pub fn path(&self) -> &str {
        &self.0[Position::BeforePath..]
    }

    /// The address as text, with its port.
    pub fn written(&self) -> String {
        format!("{}://{}:{}{}", self.0.scheme(), self.host(), self.port(), self.path())
    }

    /// A short word that is the same for the same address, whatever the version.
    pub fn mark(&self) -> String {
        format!("{:016x}", mix_text(0, &self.written()))
    }

    /// What the stream is, as far as the address tells: most stations send MP3.
    pub fn format(&self) -> Format {
        let path = self.0.path().to_ascii_lowercase();
        let named = path.rsplit_once('.').and_then(|(_, word)| Format::of_extension(word));
        named.filter(|format| format.row().live).unwrap_or(Format::Mp3)
    }
}

/// The hosts to which the service may connect for stations, as the person wrote them: a name,
/// `*.` and a name for all below it, or an IPv4 address; each with a port if only that one.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Allowed(Vec<String>);

/// An entry that is no host.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no host")]
pub struct NoHost(pub String);

impl Allowed {
    /// Takes a person's list.
    ///
    /// # Errors
    /// [`NoHost`] with the first entry that is none.
    pub fn new(entries: impl IntoIterator<Item = String>) -> Result<Allowed, NoHost> {
        let mut list = Vec::new();
        for entry in entries {
            let text = entry.trim().to_ascii_lowercase();
            let name = text.strip_prefix("*.").unwrap_or(&text);
            let address = Address::parse(&format!("http://{name}"));
            if address.is_none_or(|address| address.path() != "/") || name.contains('/') {
                return Err(NoHost(entry));
            }
            if !list.contains(&text) {
                list.push(text);
            }
        }
        list.sort();
        Ok(Allowed(list))
    }

    /// The entries.
    pub fn entries(&self) -> &[String] {
        &self.0
    }

    /// Whether an address may be connected to, by its name.
    pub fn covers(&self, address: &Address) -> bool {
        self.0.iter().any(|entry| {
            let (name, port) = match entry.split_once(':') {
                Some((name, port)) => (name, Some(port)),
                None => (entry.as_str(), None),
            };
            let host = match name.strip_prefix("*.") {
                Some(domain) => {
                    address.host().strip_suffix(domain).is_some_and(|h| h.ends_with('.'))
                }
                None => address.host() == name,
            };
            host && port.is_none_or(|port| port == address.port().to_string())
        })
    }

    /// Whether the machine may be connected to that a covered address turned out to be. A name
    /// must not lead into the house: whoever runs it could point it at anything here (SEC-12).
    /// An address that the person wrote in figures is theirs to answer for.
    pub fn may_reach(&self, address: &Address, machine: IpAddr) -> bool {
        let in_figures = address.host().parse::<Ipv4Addr>().map(IpAddr::V4) == Ok(machine);
        self.covers(address) && (in_figures || is_public(machine))
    }
}

/// Whether an address is of the internet at large.
fn is_public(machine: IpAddr) -> bool {
    match machine {
        IpAddr::V4(v4) => {
            let [a, b, ..] = v4.octets();
            !(v4.is_private()
                || v4.is_loopback()
                || v4.is_link_local()
                || v4.is_unspecified()
                || v4.is_multicast()
                || v4.is_broadcast()
                || a == 0
                || a >= 240
                || (a == 100 && (64..128).contains(&b)))
        }
        IpAddr::V6(v6) => match v6.to_ipv4_mapped() {
            Some(v4) => is_public(IpAddr::V4(v4)),
            None => {
                let first = v6.segments()[0];
                v6 != Ipv6Addr::LOCALHOST && (0x2000..0x4000).contains(&first)
            }
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn address(text: &str) -> Address {
        Address::parse(text).unwrap()
    }

    #[test]
    fn addresses_read_and_lead_on() {
        let one = address("HTTP://Radio.Pellworth.example:8000/live.aac?x=1#y");
        assert_eq!(one.written(), "http://radio.pellworth.example:8000/live.aac?x=1");
        assert_eq!(one.format(), Format::Adts);
        assert_eq!(address("https://a.example").written(), "https://a.example:443/");
        assert_eq!(
            one.follow("/next").unwrap().written(),
            "http://radio.pellworth.example:8000/next"
        );
        assert_eq!(one.follow("b.mp3").unwrap().path(), "/b.mp3");
        assert_eq!(one.follow("https://c.example/").unwrap().port(), 443);
        assert_eq!(one.follow("//d.example./x").unwrap().host(), "d.example");
        assert_eq!(one.follow("ftp://d.example/"), None);
        // However it is written, it is the address that the person's list is asked for.
        assert_eq!(address("http://0x7f.1/").host(), "127.0.0.1");
        for bad in [
            "ftp://a/",
            "http://",
            "http://u@a/",
            "http://[::1]/",
            "http://a:0/",
            "http://a/x\r\ny",
            "http://a/x y",
            "http:\\\\a/",
            "http://a b/",
            "a",
        ] {
            assert_eq!(Address::parse(bad), None, "{bad}");
        }
    }

    #[test]
    fn a_mark_tells_addresses_apart() {
        let mark = |text: &str| address(text).mark();
        assert_eq!(mark("http://a.example/Live"), mark("HTTP://A.example:80/Live"));
        assert_ne!(mark("http://a.example/Live"), mark("http://a.example/live"));
    }

    #[test]
    fn only_what_the_person_wrote_is_connected_to() {
        let list = ["radio.example", "*.waves.example:8000", "127.0.0.5"].map(str::to_owned);
        let allowed = Allowed::new(list).unwrap();
        let covers = |text: &str| allowed.covers(&address(text));
        assert!(covers("http://radio.example/") && covers("https://RADIO.example:9/"));
        assert!(covers("http://a.waves.example:8000/") && !covers("http://a.waves.example/"));
        assert!(!covers("http://waves.example:8000/") && !covers("http://xwaves.example:8000/"));
        assert!(!covers("http://other.example/"));
        for bad in ["", "*.", "http://a/", "a/b", "a b", "*"] {
            assert!(Allowed::new([bad.to_owned()]).is_err(), "{bad}");
        }
    }

    #[test]
    fn a_name_never_leads_into_the_house() {
        let allowed = Allowed::new(["radio.example", "127.0.0.5"].map(str::to_owned)).unwrap();
        let name = address("http://radio.example/");
        for inside in [
            "127.0.0.1",
            "10.0.0.1",
            "192.168.1.1",
            "169.254.1.1",
            "100.64.0.1",
            "0.0.0.0",
            "::1",
            "fe80::1",
            "fd00::1",
            "::ffff:10.0.0.1",
        ] {
            assert!(!allowed.may_reach(&name, inside.parse().unwrap()), "{inside}");
        }
        assert!(allowed.may_reach(&name, "203.0.113.9".parse().unwrap()));
        let figures = address("http://127.0.0.5/");
        assert!(allowed.may_reach(&figures, "127.0.0.5".parse().unwrap()));
        assert!(!allowed.may_reach(&figures, "127.0.0.6".parse().unwrap()));
    }
}
