//! The registrar that some games consoles ask before they list a server (requirements 7.2).

use crate::soap::{Call, Fault};

/// Answers a call as out arguments. `welcome` is true for admitted and waiting devices (REG-2).
///
/// # Errors
/// 401 for an unknown action.
pub fn answer(call: &Call, welcome: bool) -> Result<Vec<(&'static str, String)>, Fault> {
    match call.action.as_str() {
        "IsAuthorized" | "IsValidated" => Ok(vec![("Result", u8::from(welcome).to_string())]),
        "RegisterDevice" => Ok(vec![("RegistrationRespMsg", String::new())]),
        _ => Err(Fault::InvalidAction),
    }
}

/// The evented variables and their values, constant while standings do not change (REG-4).
pub fn event_variables() -> Vec<(&'static str, String)> {
    [
        "AuthorizationGrantedUpdateID",
        "AuthorizationDeniedUpdateID",
        "ValidationSucceededUpdateID",
        "ValidationRevokedUpdateID",
    ]
    .into_iter()
    .map(|name| (name, "1".to_owned()))
    .collect()
}
