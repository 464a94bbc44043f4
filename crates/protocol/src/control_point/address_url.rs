//! URLs that others tell us: which of them we connect to.

use std::net::Ipv4Addr;

use url::{Host, Url};

/// Bytes of a URL (SCP-11).
pub(super) const BYTES: usize = 1024;

/// A URL that is complete, and its address: plain HTTP to an IPv4 address (SCP-11) that is written as
/// four decimal numbers. Other ways to write one, such as `0x7f.1`, are none: somebody else may read
/// them otherwise (SEC-10).
pub(super) fn read(text: &str) -> Option<(Url, Ipv4Addr)> {
    usable(Url::parse(text).ok()?).filter(|(_, host)| host_as_written(text) == Some(Some(*host)))
}

/// Where a URL leads that is written in a document which was read at `base`; it may be relative.
pub(super) fn join(base: &Url, text: &str) -> Option<(Url, Ipv4Addr)> {
    let as_written = host_as_written(text)?;
    usable(base.join(text).ok()?).filter(|(_, host)| as_written.is_none_or(|own| own == *host))
}

fn usable(url: Url) -> Option<(Url, Ipv4Addr)> {
    let Some(Host::Ipv4(host)) = url.host() else { return None };
    let plain = url.scheme() == "http" && url.username().is_empty() && url.password().is_none();
    (plain && url.port() != Some(0) && url.as_str().len() <= BYTES).then_some((url, host))
}

/// The address that a text names, `Some(None)` if it is relative and names none; `None` where it names
/// a host in another way.
fn host_as_written(text: &str) -> Option<Option<Ipv4Addr>> {
    let text = text.trim();
    // What browsers read as slashes and as nothing.
    if text.len() > BYTES || text.contains('\\') || text.contains(char::is_control) {
        return None;
    }
    let in_scheme = |c: char| c.is_ascii_alphanumeric() || "+-.".contains(c);
    let after_scheme = text.split_once(':').filter(|(scheme, _)| scheme.chars().all(in_scheme));
    let named = match after_scheme {
        Some((_, rest)) => Some(rest.strip_prefix("//")?),
        None => text.strip_prefix("//"),
    };
    let Some(named) = named else { return Some(None) };
    let host = named.split([':', '/', '?', '#']).next().unwrap_or_default();
    host.parse().ok().map(Some)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn address(text: &str) -> Option<Ipv4Addr> {
        read(text).map(|(_, host)| host)
    }

    #[test]
    fn only_an_address_in_full_is_connected_to() {
        let own = Some(Ipv4Addr::new(127, 0, 0, 1));
        for text in ["http://127.0.0.1", "HTTP://127.0.0.1:80/d.xml", " http://127.0.0.1?a#b"] {
            assert_eq!(address(text), own, "{text}");
        }
        for text in [
            "http://0x7f.1/",
            "http://127.1/",
            "http://2130706433/",
            "http://0177.0.0.1/",
            "http://127.0.0.1./",
            "http://%3127.0.0.1/",
            "http://[::ffff:127.0.0.1]/",
            "http://\u{ff11}27.0.0.1/",
            "http:127.0.0.1/",
            "http:/127.0.0.1/",
            "http:///127.0.0.1/",
            "http:\\\\127.0.0.1/",
            "ht\ntp://0x7f.1/",
            "http://127.0.0.1\t/",
            "http://u@127.0.0.1/",
            "http://127.0.0.1:0/",
            "https://127.0.0.1/",
            "//127.0.0.1/",
            "/d.xml",
            "",
        ] {
            assert_eq!(address(text), None, "{text}");
        }
        assert_eq!(address(&format!("http://127.0.0.1/{}", "x".repeat(BYTES))), None);
    }

    #[test]
    fn one_in_a_document_may_be_relative() {
        let base = Url::parse("http://192.0.2.7:8080/desc/root.xml").unwrap();
        let joined = |text: &str| join(&base, text).map(|(url, _)| url.to_string());
        for (text, leads) in [
            ("a.xml", "http://192.0.2.7:8080/desc/a.xml"),
            ("/a//b", "http://192.0.2.7:8080/a//b"),
            ("", "http://192.0.2.7:8080/desc/root.xml"),
            ("?id=a:b", "http://192.0.2.7:8080/desc/root.xml?id=a:b"),
            ("//192.0.2.9/x", "http://192.0.2.9/x"),
            ("http://192.0.2.9/x", "http://192.0.2.9/x"),
        ] {
            assert_eq!(joined(text).as_deref(), Some(leads), "{text}");
        }
        for text in ["//0300.0.2.7/", "http://192.0.519/", "/\\192.0.2.9/x", "http:x", "lamp:x"] {
            assert_eq!(joined(text), None, "{text}");
        }
    }
}
