//! What is kept of names that devices choose: those that our tables have, and of all others only that
//! there were some. A device that makes up names takes no room by that.

use mostra_protocol::model::identifiers::{MEDIA_SERVER, ROOT_DEVICE};
use mostra_protocol::model::service::OwnService;

/// What stands for every name that is in no table.
const UNKNOWN: &str = "unknown";

/// The largest version of a device or service type that is told from others.
const VERSION: u8 = 9;

/// An action's name, if one of our services has it.
pub(super) fn action(name: &str) -> &'static str {
    let tables = OwnService::ALL.into_iter().flat_map(|service| service.definition().actions);
    let found = tables.into_iter().find(|action| action.name == name);
    found.map_or(UNKNOWN, |action| action.name)
}

/// A search's target, as far as it can be one of ours: in the standards' spelling, whatever that of
/// the search was.
pub(super) fn target(target: &str) -> String {
    let is = |known: &str| target.eq_ignore_ascii_case(known);
    if is("ssdp:all") || is(ROOT_DEVICE) {
        return target.to_ascii_lowercase();
    }
    if target.get(..5).is_some_and(|begin| begin.eq_ignore_ascii_case("uuid:")) {
        return "this server by its UDN".into();
    }
    let Some((name, version)) = target.rsplit_once(':') else { return UNKNOWN.into() };
    let Some(version) = version.parse().ok().filter(|version| (1..=VERSION).contains(version))
    else {
        return UNKNOWN.into();
    };
    let own = OwnService::ALL.into_iter().map(|service| service.definition().urn());
    let mut types = own.chain([MEDIA_SERVER.to_owned()]);
    let found = types.find_map(|urn| {
        let (known, _) = urn.rsplit_once(':')?;
        known.eq_ignore_ascii_case(name).then(|| format!("{known}:{version}"))
    });
    found.unwrap_or_else(|| UNKNOWN.into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_those_of_the_tables_or_unknown() {
        assert_eq!(
            (action("Browse"), action("browse"), action("X_Made_Up")),
            ("Browse", UNKNOWN, UNKNOWN)
        );
        for (asked, kept) in [
            ("SSDP:ALL", "ssdp:all"),
            ("upnp:RootDevice", ROOT_DEVICE),
            ("UUID:6f1c", "this server by its UDN"),
            (
                "URN:schemas-upnp-org:device:mediaserver:2",
                "urn:schemas-upnp-org:device:MediaServer:2",
            ),
            (
                "urn:schemas-upnp-org:service:ContentDirectory:01",
                "urn:schemas-upnp-org:service:ContentDirectory:1",
            ),
            ("urn:schemas-upnp-org:device:MediaServer:77", UNKNOWN),
            ("urn:made-up:1", UNKNOWN),
            ("", UNKNOWN),
        ] {
            assert_eq!(target(asked), kept, "{asked}");
        }
    }
}
