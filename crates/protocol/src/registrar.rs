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

#[cfg(test)]
mod tests {
    use super::*;

    fn ask(action: &str, welcome: bool) -> Result<Vec<(&'static str, String)>, Fault> {
        let call = Call { namespace: String::new(), action: action.into(), arguments: vec![] };
        answer(&call, welcome)
    }

    #[test]
    fn each_action_has_its_answer_and_others_have_none() {
        for action in ["IsAuthorized", "IsValidated"] {
            assert_eq!(ask(action, true), Ok(vec![("Result", "1".into())]));
            assert_eq!(ask(action, false), Ok(vec![("Result", "0".into())]));
        }
        let registered = Ok(vec![("RegistrationRespMsg", String::new())]);
        assert_eq!(ask("RegisterDevice", true), registered);
        assert_eq!(ask("Register", true), Err(Fault::InvalidAction));
    }

    #[test]
    fn four_variables_are_evented_and_stay_as_they_are() {
        let variables = event_variables();
        assert_eq!(variables.len(), 4);
        assert!(variables.iter().all(|(name, value)| name.ends_with("UpdateID") && value == "1"));
    }
}
