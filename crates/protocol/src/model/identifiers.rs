//! Identifiers fixed by the standards, and by old devices that need them.

use std::net::Ipv4Addr;

/// The SSDP multicast group (UDA §1).
pub const SSDP_GROUP: Ipv4Addr = Ipv4Addr::new(239, 255, 255, 250);
/// The SSDP port (UDA §1).
pub const SSDP_PORT: u16 = 1900;
/// What we are (UDA §2).
pub const MEDIA_SERVER: &str = "urn:schemas-upnp-org:device:MediaServer:1";
/// What plays for a control point.
pub const MEDIA_RENDERER: &str = "urn:schemas-upnp-org:device:MediaRenderer:1";
/// The root device search target (UDA §1.3.2).
pub const ROOT_DEVICE: &str = "upnp:rootdevice";
/// Namespace of device documents (UDA §2.3).
pub const NS_DEVICE: &str = "urn:schemas-upnp-org:device-1-0";
/// Namespace of service documents (UDA §2.5).
pub const NS_SERVICE: &str = "urn:schemas-upnp-org:service-1-0";
/// Namespace of SOAP envelopes (UDA §3.2).
pub const NS_SOAP: &str = "http://schemas.xmlsoap.org/soap/envelope/";
/// The SOAP encoding style every envelope names (UDA §3.2).
pub const SOAP_ENCODING: &str = "http://schemas.xmlsoap.org/soap/encoding/";
/// Namespace of the error inside a SOAP fault (UDA §3.2).
pub const NS_CONTROL: &str = "urn:schemas-upnp-org:control-1-0";
/// Namespace of event bodies (UDA §4.3).
pub const NS_EVENT: &str = "urn:schemas-upnp-org:event-1-0";
/// Namespace of DIDL-Lite (CDS).
pub const NS_DIDL: &str = "urn:schemas-upnp-org:metadata-1-0/DIDL-Lite/";
/// Namespace of `upnp:` properties (CDS).
pub const NS_UPNP: &str = "urn:schemas-upnp-org:metadata-1-0/upnp/";
/// Namespace of Dublin Core properties (CDS).
pub const NS_DC: &str = "http://purl.org/dc/elements/1.1/";
/// Namespace of `dlna:` in device documents (DLNA).
pub const NS_DLNA_DEVICE: &str = "urn:schemas-dlna-org:device-1-0";
/// Namespace of `dlna:` in DIDL-Lite (DLNA).
pub const NS_DLNA: &str = "urn:schemas-dlna-org:metadata-1-0/";

/// Splits a type that somebody searches for into its name and its version, from 1 and as it is
/// written; `None` for anything else, so that what is echoed is as short as what we have (SSDP-9,
/// SSDP-34).
pub fn versioned(urn: &str) -> Option<(&str, u32)> {
    let (name, text) = urn.rsplit_once(':')?;
    let version: u32 = text.parse().ok().filter(|version| *version >= 1)?;
    (version.to_string() == text).then_some((name, version))
}

/// Splits `urn:…:Name:2` into its name and its version; a missing version counts as 1.
pub fn split_version(urn: &str) -> (&str, u32) {
    match urn.rsplit_once(':') {
        Some((name, version)) if !version.is_empty() => match version.parse() {
            Ok(version) => (name, version),
            Err(_) => (urn, 1),
        },
        _ => (urn, 1),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_plain_version_is_one() {
        assert_eq!(versioned("urn:x:service:Y:12"), Some(("urn:x:service:Y", 12)));
        let long = format!("urn:x:service:Y:{}1", "0".repeat(2000));
        for other in [
            "urn:x:service:Y",
            "urn:x:service:Y:",
            "urn:x:service:Y:0",
            "urn:x:service:Y:01",
            "urn:x:service:Y:+1",
            "urn:x:service:Y: 1",
            "urn:x:service:Y:99999999999",
            &long,
            "",
        ] {
            assert_eq!(versioned(other), None, "{other}");
        }
    }
}
