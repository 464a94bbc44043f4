//! Service documents (UDA §2.5), written from one table of actions and variables. What we answer is
//! written elsewhere; a test compares the names of both (DESC-14).

use std::fmt::Write as _;

use crate::identifiers::{NS_SERVICE, Service};

/// An argument and the state variable it relates to.
type Argument = (&'static str, &'static str);

/// An action: name, in arguments, out arguments.
#[derive(Debug, Clone, Copy)]
pub struct Action {
    /// The action's name.
    pub name: &'static str,
    /// Arguments sent by the caller, in order.
    pub inputs: &'static [Argument],
    /// Arguments answered, in order.
    pub outputs: &'static [Argument],
}

/// A state variable.
#[derive(Debug, Clone, Copy)]
pub struct Variable {
    /// Its name.
    pub name: &'static str,
    /// Its UPnP data type.
    pub kind: &'static str,
    /// Whether changes are sent to subscribers (DESC-16).
    pub evented: bool,
    /// The values allowed; empty for any.
    pub allowed: &'static [&'static str],
}

const fn var(name: &'static str, kind: &'static str) -> Variable {
    Variable { name, kind, evented: false, allowed: &[] }
}

const fn evented(name: &'static str, kind: &'static str) -> Variable {
    Variable { name, kind, evented: true, allowed: &[] }
}

const fn listed(name: &'static str, allowed: &'static [&'static str]) -> Variable {
    Variable { name, kind: "string", evented: false, allowed }
}

const CONTENT_ACTIONS: &[Action] = &[
    Action {
        name: "GetSearchCapabilities",
        inputs: &[],
        outputs: &[("SearchCaps", "SearchCapabilities")],
    },
    Action {
        name: "GetSortCapabilities",
        inputs: &[],
        outputs: &[("SortCaps", "SortCapabilities")],
    },
    Action { name: "GetSystemUpdateID", inputs: &[], outputs: &[("Id", "SystemUpdateID")] },
    Action {
        name: "Browse",
        inputs: &[
            ("ObjectID", "A_ARG_TYPE_ObjectID"),
            ("BrowseFlag", "A_ARG_TYPE_BrowseFlag"),
            ("Filter", "A_ARG_TYPE_Filter"),
            ("StartingIndex", "A_ARG_TYPE_Index"),
            ("RequestedCount", "A_ARG_TYPE_Count"),
            ("SortCriteria", "A_ARG_TYPE_SortCriteria"),
        ],
        outputs: &[
            ("Result", "A_ARG_TYPE_Result"),
            ("NumberReturned", "A_ARG_TYPE_Count"),
            ("TotalMatches", "A_ARG_TYPE_Count"),
            ("UpdateID", "A_ARG_TYPE_UpdateID"),
        ],
    },
    Action {
        name: "Search",
        inputs: &[
            ("ContainerID", "A_ARG_TYPE_ObjectID"),
            ("SearchCriteria", "A_ARG_TYPE_SearchCriteria"),
            ("Filter", "A_ARG_TYPE_Filter"),
            ("StartingIndex", "A_ARG_TYPE_Index"),
            ("RequestedCount", "A_ARG_TYPE_Count"),
            ("SortCriteria", "A_ARG_TYPE_SortCriteria"),
        ],
        outputs: &[
            ("Result", "A_ARG_TYPE_Result"),
            ("NumberReturned", "A_ARG_TYPE_Count"),
            ("TotalMatches", "A_ARG_TYPE_Count"),
            ("UpdateID", "A_ARG_TYPE_UpdateID"),
        ],
    },
];

const CONTENT_VARIABLES: &[Variable] = &[
    evented("SystemUpdateID", "ui4"),
    evented("ContainerUpdateIDs", "string"),
    evented("TransferIDs", "string"),
    var("SearchCapabilities", "string"),
    var("SortCapabilities", "string"),
    var("A_ARG_TYPE_ObjectID", "string"),
    var("A_ARG_TYPE_Result", "string"),
    listed("A_ARG_TYPE_BrowseFlag", &["BrowseMetadata", "BrowseDirectChildren"]),
    var("A_ARG_TYPE_SearchCriteria", "string"),
    var("A_ARG_TYPE_Filter", "string"),
    var("A_ARG_TYPE_SortCriteria", "string"),
    var("A_ARG_TYPE_Index", "ui4"),
    var("A_ARG_TYPE_Count", "ui4"),
    var("A_ARG_TYPE_UpdateID", "ui4"),
];

const CONNECTION_ACTIONS: &[Action] = &[
    Action {
        name: "GetProtocolInfo",
        inputs: &[],
        outputs: &[("Source", "SourceProtocolInfo"), ("Sink", "SinkProtocolInfo")],
    },
    Action {
        name: "GetCurrentConnectionIDs",
        inputs: &[],
        outputs: &[("ConnectionIDs", "CurrentConnectionIDs")],
    },
    Action {
        name: "GetCurrentConnectionInfo",
        inputs: &[("ConnectionID", "A_ARG_TYPE_ConnectionID")],
        outputs: &[
            ("RcsID", "A_ARG_TYPE_RcsID"),
            ("AVTransportID", "A_ARG_TYPE_AVTransportID"),
            ("ProtocolInfo", "A_ARG_TYPE_ProtocolInfo"),
            ("PeerConnectionManager", "A_ARG_TYPE_ConnectionManager"),
            ("PeerConnectionID", "A_ARG_TYPE_ConnectionID"),
            ("Direction", "A_ARG_TYPE_Direction"),
            ("Status", "A_ARG_TYPE_ConnectionStatus"),
        ],
    },
];

const CONNECTION_VARIABLES: &[Variable] = &[
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

const REGISTRAR_ACTIONS: &[Action] = &[
    Action {
        name: "IsAuthorized",
        inputs: &[("DeviceID", "A_ARG_TYPE_DeviceID")],
        outputs: &[("Result", "A_ARG_TYPE_Result")],
    },
    Action {
        name: "IsValidated",
        inputs: &[("DeviceID", "A_ARG_TYPE_DeviceID")],
        outputs: &[("Result", "A_ARG_TYPE_Result")],
    },
    Action {
        name: "RegisterDevice",
        inputs: &[("RegistrationReqMsg", "A_ARG_TYPE_RegistrationReqMsg")],
        outputs: &[("RegistrationRespMsg", "A_ARG_TYPE_RegistrationRespMsg")],
    },
];

const REGISTRAR_VARIABLES: &[Variable] = &[
    evented("AuthorizationGrantedUpdateID", "ui4"),
    evented("AuthorizationDeniedUpdateID", "ui4"),
    evented("ValidationSucceededUpdateID", "ui4"),
    evented("ValidationRevokedUpdateID", "ui4"),
    var("A_ARG_TYPE_DeviceID", "string"),
    var("A_ARG_TYPE_Result", "int"),
    var("A_ARG_TYPE_RegistrationReqMsg", "bin.base64"),
    var("A_ARG_TYPE_RegistrationRespMsg", "bin.base64"),
];

/// The actions a service answers.
pub fn actions(service: Service) -> &'static [Action] {
    match service {
        Service::ContentDirectory => CONTENT_ACTIONS,
        Service::ConnectionManager => CONNECTION_ACTIONS,
        Service::Registrar => REGISTRAR_ACTIONS,
    }
}

/// The state variables of a service.
pub fn variables(service: Service) -> &'static [Variable] {
    match service {
        Service::ContentDirectory => CONTENT_VARIABLES,
        Service::ConnectionManager => CONNECTION_VARIABLES,
        Service::Registrar => REGISTRAR_VARIABLES,
    }
}

/// The action of a service by name.
pub fn action(service: Service, name: &str) -> Option<&'static Action> {
    actions(service).iter().find(|a| a.name == name)
}

/// Writes a service's document.
pub fn write(service: Service) -> String {
    let mut out = format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<scpd xmlns=\"{NS_SERVICE}\">\n\
         <specVersion><major>1</major><minor>0</minor></specVersion>\n<actionList>\n"
    );
    for action in actions(service) {
        let _ = write!(out, "<action><name>{}</name>", action.name);
        let inputs = action.inputs.iter().map(|a| (a, "in"));
        let outputs = action.outputs.iter().map(|a| (a, "out"));
        let arguments: Vec<_> = inputs.chain(outputs).collect();
        if !arguments.is_empty() {
            out.push_str("<argumentList>");
            for ((name, variable), direction) in arguments {
                let _ = write!(
                    out,
                    "<argument><name>{name}</name><direction>{direction}</direction>\
                     <relatedStateVariable>{variable}</relatedStateVariable></argument>"
                );
            }
            out.push_str("</argumentList>");
        }
        out.push_str("</action>\n");
    }
    out.push_str("</actionList>\n<serviceStateTable>\n");
    for variable in variables(service) {
        let events = if variable.evented { "yes" } else { "no" };
        let _ = write!(
            out,
            "<stateVariable sendEvents=\"{events}\"><name>{}</name><dataType>{}</dataType>",
            variable.name, variable.kind
        );
        if !variable.allowed.is_empty() {
            out.push_str("<allowedValueList>");
            for value in variable.allowed {
                let _ = write!(out, "<allowedValue>{value}</allowedValue>");
            }
            out.push_str("</allowedValueList>");
        }
        out.push_str("</stateVariable>\n");
    }
    out.push_str("</serviceStateTable>\n</scpd>");
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::xml::{self, Limits};

    #[test]
    fn every_argument_relates_to_a_variable_that_exists() {
        for service in Service::ALL {
            let document = xml::read(&write(service), Limits::DOCUMENT).unwrap();
            let names: Vec<_> = document
                .descendants("stateVariable")
                .iter()
                .map(|v| v.child_text("name").unwrap().to_owned())
                .collect();
            for argument in document.descendants("argument") {
                let related = argument.child_text("relatedStateVariable").unwrap();
                assert!(names.iter().any(|n| n == related), "{related}");
            }
        }
    }

    #[test]
    fn evented_variables_are_those_of_the_table() {
        let evented = |service| {
            let document = xml::read(&write(service), Limits::DOCUMENT).unwrap();
            let variables = document.descendants("stateVariable");
            let mut names: Vec<String> = variables
                .iter()
                .filter(|v| v.attribute("sendEvents") == Some("yes"))
                .map(|v| v.child_text("name").unwrap().to_owned())
                .collect();
            names.sort();
            names
        };
        assert_eq!(
            evented(Service::ContentDirectory),
            ["ContainerUpdateIDs", "SystemUpdateID", "TransferIDs"]
        );
        assert_eq!(
            evented(Service::ConnectionManager),
            ["CurrentConnectionIDs", "SinkProtocolInfo", "SourceProtocolInfo"]
        );
        assert_eq!(evented(Service::Registrar).len(), 4);
    }

    #[test]
    fn in_arguments_come_first() {
        let text = write(Service::ContentDirectory);
        let browse = &text[text.find("<name>Browse</name>").unwrap()..];
        assert!(browse.find("SortCriteria").unwrap() < browse.find("NumberReturned").unwrap());
    }
}
