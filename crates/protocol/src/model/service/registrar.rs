//! The registrar that some games consoles ask before they list a server.

use super::{Definition, Variable, actions, evented, var};

/// The service.
pub const DEFINITION: Definition = Definition {
    name: "urn:microsoft.com:service:X_MS_MediaReceiverRegistrar",
    version: 1,
    id: "urn:microsoft.com:serviceId:X_MS_MediaReceiverRegistrar",
    actions: ACTIONS,
    variables: VARIABLES,
};

actions! { DEFINITION;
    IsAuthorized(DeviceID: "A_ARG_TYPE_DeviceID") -> (Result: "A_ARG_TYPE_Result");
    IsValidated(DeviceID: "A_ARG_TYPE_DeviceID") -> (Result: "A_ARG_TYPE_Result");
    RegisterDevice(RegistrationReqMsg: "A_ARG_TYPE_RegistrationReqMsg") -> (RegistrationRespMsg: "A_ARG_TYPE_RegistrationRespMsg");
}

const VARIABLES: &[Variable] = &[
    evented("AuthorizationGrantedUpdateID", "ui4"),
    evented("AuthorizationDeniedUpdateID", "ui4"),
    evented("ValidationSucceededUpdateID", "ui4"),
    evented("ValidationRevokedUpdateID", "ui4"),
    var("A_ARG_TYPE_DeviceID", "string"),
    var("A_ARG_TYPE_Result", "int"),
    var("A_ARG_TYPE_RegistrationReqMsg", "bin.base64"),
    var("A_ARG_TYPE_RegistrationRespMsg", "bin.base64"),
];
