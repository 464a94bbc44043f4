//! WANIPConnection:1, the ports that a router lets in from outside; only what is read of it.

use super::{Definition, Variable, actions, evented, listed, var};

/// The service.
pub const DEFINITION: Definition = Definition {
    name: "urn:schemas-upnp-org:service:WANIPConnection",
    version: 1,
    id: "urn:upnp-org:serviceId:WANIPConn1",
    actions: ACTIONS,
    variables: VARIABLES,
};

actions! { DEFINITION;
    GetExternalIPAddress() -> (NewExternalIPAddress: "ExternalIPAddress");
    GetGenericPortMappingEntry(NewPortMappingIndex: "PortMappingNumberOfEntries") -> (NewRemoteHost: "RemoteHost", NewExternalPort: "ExternalPort", NewProtocol: "PortMappingProtocol", NewInternalPort: "InternalPort", NewInternalClient: "InternalClient", NewEnabled: "PortMappingEnabled", NewPortMappingDescription: "PortMappingDescription", NewLeaseDuration: "PortMappingLeaseDuration");
}

const VARIABLES: &[Variable] = &[
    evented("ExternalIPAddress", "string"),
    evented("PortMappingNumberOfEntries", "ui2"),
    var("RemoteHost", "string"),
    var("ExternalPort", "ui2"),
    listed("PortMappingProtocol", &["TCP", "UDP"]),
    var("InternalPort", "ui2"),
    var("InternalClient", "string"),
    var("PortMappingEnabled", "boolean"),
    var("PortMappingDescription", "string"),
    var("PortMappingLeaseDuration", "ui4"),
];
