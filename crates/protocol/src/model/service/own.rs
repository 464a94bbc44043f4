//! The services that we offer.

use super::{Definition, ServiceType, connection_manager, content_directory, registrar};

/// A service of our own server, in the order of the device document.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum OwnService {
    /// ContentDirectory:1.
    ContentDirectory,
    /// ConnectionManager:1.
    ConnectionManager,
    /// The registrar that some games consoles ask for before they list a server.
    Registrar,
}

impl OwnService {
    /// All of them.
    pub const ALL: [OwnService; 3] =
        [OwnService::ContentDirectory, OwnService::ConnectionManager, OwnService::Registrar];

    /// What it can do.
    pub fn definition(self) -> &'static Definition {
        match self {
            OwnService::ContentDirectory => &content_directory::DEFINITION,
            OwnService::ConnectionManager => &connection_manager::DEFINITION,
            OwnService::Registrar => &registrar::DEFINITION,
        }
    }

    /// The short name in our own URLs.
    pub fn slug(self) -> &'static str {
        match self {
            OwnService::ContentDirectory => "content",
            OwnService::ConnectionManager => "connection",
            OwnService::Registrar => "registrar",
        }
    }

    /// Whether a service type names this service in any version (SOAP-3).
    pub fn is_type(self, urn: &str) -> bool {
        urn.parse().is_ok_and(|kind: ServiceType| kind.is(self.definition()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_service_is_known_by_its_type_in_any_version() {
        for service in OwnService::ALL {
            for other in OwnService::ALL {
                let Definition { name, .. } = other.definition();
                for urn in [other.definition().urn(), format!("{name}:7"), (*name).to_owned()] {
                    assert_eq!(service.is_type(&urn), service == other, "{urn}");
                }
            }
        }
    }
}
