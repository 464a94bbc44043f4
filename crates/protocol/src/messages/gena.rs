//! Header fields and bodies of eventing.

use std::fmt::Write as _;
use std::net::{Ipv4Addr, SocketAddrV4};
use std::time::Duration;

use crate::model::identifiers::NS_EVENT;
use crate::model::xml::{self, Limits, XmlError, escape_into};

/// Bytes of a SID that is taken.
const SID: usize = 256;

/// What the fields of a SUBSCRIBE ask for (GENA-1, GENA-4, GENA-6).
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Asked {
    /// A new subscription.
    New {
        /// `CALLBACK` as sent.
        callback: String,
    },
    /// A renewal.
    Renew {
        /// `SID`.
        sid: String,
    },
}

impl Asked {
    /// Reads the fields of a SUBSCRIBE.
    ///
    /// # Errors
    /// [`AskedError`] for SID beside NT or CALLBACK, and for what is missing or wrong.
    pub fn read(
        sid: Option<&str>,
        nt: Option<&str>,
        callback: Option<&str>,
    ) -> Result<Asked, AskedError> {
        match (sid, nt, callback) {
            (Some(sid), None, None) => Ok(Asked::Renew { sid: sid.trim().to_owned() }),
            (Some(_), _, _) => Err(AskedError::Contradiction),
            (None, Some(nt), Some(callback)) if nt.trim() == "upnp:event" => {
                Ok(Asked::New { callback: callback.to_owned() })
            }
            _ => Err(AskedError::Incomplete),
        }
    }
}

/// Why the fields of a SUBSCRIBE ask for nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum AskedError {
    /// SID stands beside NT or CALLBACK.
    #[error("SID beside NT or CALLBACK")]
    Contradiction,
    /// A field is missing or wrong.
    #[error("NT or CALLBACK is missing or wrong")]
    Incomplete,
}

impl AskedError {
    /// The HTTP status for it.
    pub fn status(self) -> u16 {
        match self {
            AskedError::Contradiction => 400,
            AskedError::Incomplete => 412,
        }
    }
}

/// Reads CALLBACK, keeping at most 4 URLs that point back at the subscriber itself (GENA-7,
/// GENA-8). Anything else would let third parties aim us at a victim.
pub fn callbacks(
    field: &str,
    subscriber: Ipv4Addr,
    own: &[SocketAddrV4],
) -> Vec<(SocketAddrV4, String)> {
    let mut found = Vec::new();
    for piece in field.split('<').skip(1) {
        let Some((url, _)) = piece.split_once('>') else { continue };
        if found.len() == 4 {
            break;
        }
        if url.len() > 512 || url.chars().any(|c| c.is_control() || c == ' ' || !c.is_ascii()) {
            continue;
        }
        let Some((scheme, rest)) = url.split_once("://") else { continue };
        if !scheme.eq_ignore_ascii_case("http") {
            continue;
        }
        let at = rest.find(['/', '?', '#']).unwrap_or(rest.len());
        let (authority, path) = rest.split_at(at);
        let (host, port) = match authority.rsplit_once(':') {
            Some((host, port)) if port.bytes().all(|b| b.is_ascii_digit()) => {
                (host, port.parse().ok())
            }
            Some(_) => continue,
            None => (authority, Some(80)),
        };
        // Only a dotted quad parses here: names, user info and odd forms of addresses do not.
        let (Ok(host), Some(port)) = (host.parse::<Ipv4Addr>(), port) else { continue };
        let address = SocketAddrV4::new(host, port);
        if host != subscriber || !(port == 80 || port >= 1024) || own.contains(&address) {
            continue;
        }
        let path = path.split('#').next().unwrap_or_default();
        let path = if path.starts_with('/') { path.to_owned() } else { format!("/{path}") };
        found.push((address, path));
    }
    found
}

/// The time granted for a TIMEOUT field (GENA-2).
pub fn read_timeout(field: Option<&str>) -> Duration {
    let seconds = field
        .and_then(|f| f.trim().get(7..).filter(|_| f.trim()[..7].eq_ignore_ascii_case("Second-")))
        .and_then(|n| n.parse::<u64>().ok())
        .unwrap_or(1800);
    Duration::from_secs(seconds.clamp(300, 1800))
}

/// Reads what a publisher grants: the SID, and for how long; `None` for `infinite` and for what
/// cannot be read (GENA-20). Without a SID nothing is granted.
pub fn read_granted(
    sid: Option<&str>,
    timeout: Option<&str>,
) -> Option<(String, Option<Duration>)> {
    let sid = sid.map(str::trim).filter(|sid| !sid.is_empty() && sid.len() <= SID)?;
    let seconds = timeout.and_then(|field| {
        let (word, number) = field.trim().split_once('-')?;
        word.eq_ignore_ascii_case("second").then(|| number.trim().parse().ok())?
    });
    Some((sid.to_owned(), seconds.map(Duration::from_secs)))
}

/// Writes an event's body: one property per variable (GENA-12).
pub fn write_properties(variables: &[(String, String)]) -> String {
    let mut out = format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<e:propertyset xmlns:e=\"{NS_EVENT}\">\n"
    );
    for (name, value) in variables {
        let _ = write!(out, "<e:property><{name}>");
        escape_into(&mut out, value);
        let _ = writeln!(out, "</{name}></e:property>");
    }
    out.push_str("</e:propertyset>");
    out
}

/// Reads an event's body, in the memory that [`xml::read`] takes.
///
/// # Errors
/// [`XmlError`] when it is not a property set.
pub fn read_properties(body: &str) -> Result<Vec<(String, String)>, XmlError> {
    let root = xml::read(body, Limits::DOCUMENT)?;
    if &*root.name != "propertyset" {
        return Err(XmlError::Malformed("no property set".into()));
    }
    let variables = root.children.into_iter().flat_map(|p| p.children);
    Ok(variables.map(|v| (v.name.into(), v.text)).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    const ME: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 60);

    #[test]
    fn what_is_written_as_an_event_reads_back_and_nothing_else_is_one() {
        let variables =
            [("SystemUpdateID".to_owned(), "7".to_owned()), ("Text".to_owned(), "a<b & c".into())];
        let body = write_properties(&variables);
        assert_eq!(read_properties(&body).unwrap(), variables);
        assert!(read_properties("<list><property><A>1</A></property></list>").is_err());
    }

    #[test]
    fn callback_must_be_subscriber() {
        let own = [SocketAddrV4::new(ME, 7640)];
        let good = callbacks("<http://192.0.2.60:50871/ev/3><HTTP://192.0.2.60/>", ME, &own);
        assert_eq!(good[0], (SocketAddrV4::new(ME, 50871), "/ev/3".to_owned()));
        assert_eq!(good[1], (SocketAddrV4::new(ME, 80), "/".to_owned()));
        for wrong in [
            "<http://192.0.2.61:50871/>",
            "<https://192.0.2.60:50871/>",
            "<http://192.0.2.60:22/>",
            "<http://u@192.0.2.60:5000/>",
            "<http://3221225532:5000/>",
            "<http://tv.local:5000/>",
            "<http://192.0.2.60:7640/>",
            "http://192.0.2.60:5000/",
            "<http://192.0.2.60:5000/a b>",
            "<http://192.0.2.60:5000/a\r\nSID: uuid:x>",
            "<>",
            "",
        ] {
            assert_eq!(callbacks(wrong, ME, &own), vec![], "{wrong}");
        }
    }

    #[test]
    fn timeouts() {
        let granted = |f| read_timeout(f).as_secs();
        assert_eq!(granted(Some("Second-600")), 600);
        assert_eq!(granted(Some("second-5")), 300);
        assert_eq!(granted(Some("Second-infinite")), 1800);
        assert_eq!(granted(Some("Second-99999")), 1800);
        assert_eq!((granted(None), granted(Some("é"))), (1800, 1800));
    }

    #[test]
    fn a_grant_needs_a_sid_and_may_be_infinite() {
        let of = |sid, timeout| read_granted(sid, timeout);
        let granted =
            |seconds: Option<u64>| Some(("uuid:1".to_owned(), seconds.map(Duration::from_secs)));
        assert_eq!(of(Some(" uuid:1 "), Some("Second-300")), granted(Some(300)));
        assert_eq!(of(Some("uuid:1"), Some("SECOND-1800 ")), granted(Some(1800)));
        assert_eq!(of(Some("uuid:1"), Some("Second-infinite")), granted(None));
        assert_eq!(of(Some("uuid:1"), Some("Second--5")), granted(None));
        assert_eq!(of(Some("uuid:1"), None), granted(None));
        assert_eq!((of(None, Some("Second-300")), of(Some(" "), None)), (None, None));
        assert_eq!(of(Some(&"x".repeat(SID + 1)), None), None);
    }

    #[test]
    fn fields_that_contradict_are_refused() {
        assert_eq!(
            Asked::read(Some("uuid:1"), Some("upnp:event"), None),
            Err(AskedError::Contradiction)
        );
        assert_eq!(Asked::read(None, Some("upnp:events"), Some("<>")), Err(AskedError::Incomplete));
        assert_eq!(Asked::read(None, None, None), Err(AskedError::Incomplete));
    }
}
