//! ConnectionManager:1, what a server sends or a renderer plays.

use super::{Definition, Variable, actions, evented, listed, var};

/// The service.
pub const DEFINITION: Definition = Definition {
    name: "urn:schemas-upnp-org:service:ConnectionManager",
    version: 1,
    id: "urn:upnp-org:serviceId:ConnectionManager",
    actions: ACTIONS,
    variables: VARIABLES,
};

actions! { DEFINITION;
    GetProtocolInfo() -> (Source: "SourceProtocolInfo", Sink: "SinkProtocolInfo");
    GetCurrentConnectionIDs() -> (ConnectionIDs: "CurrentConnectionIDs");
    GetCurrentConnectionInfo(ConnectionID: "A_ARG_TYPE_ConnectionID") -> (RcsID: "A_ARG_TYPE_RcsID", AVTransportID: "A_ARG_TYPE_AVTransportID", ProtocolInfo: "A_ARG_TYPE_ProtocolInfo", PeerConnectionManager: "A_ARG_TYPE_ConnectionManager", PeerConnectionID: "A_ARG_TYPE_ConnectionID", Direction: "A_ARG_TYPE_Direction", Status: "A_ARG_TYPE_ConnectionStatus");
}

const VARIABLES: &[Variable] = &[
    evented("SourceProtocolInfo", "string"),
    evented("SinkProtocolInfo", "string"),
    evented("CurrentConnectionIDs", "string"),
    listed(
        "A_ARG_TYPE_ConnectionStatus",
        &["OK", "ContentFormatMismatch", "InsufficientBandwidth", "UnreliableChannel", "Unknown"],
    ),
    var("A_ARG_TYPE_ConnectionManager", "string"),
    listed("A_ARG_TYPE_Direction", &["Input", "Output"]),
    var("A_ARG_TYPE_ProtocolInfo", "string"),
    var("A_ARG_TYPE_ConnectionID", "i4"),
    var("A_ARG_TYPE_AVTransportID", "i4"),
    var("A_ARG_TYPE_RcsID", "i4"),
];
