//! The registrar that some games consoles ask before they list a server (requirements 7.2).

use crate::messages::soap::Value;
use crate::model::service::registrar::Action;

/// Answers a call with its out arguments. `welcome` is true for admitted and waiting devices
/// (REG-2).
pub fn answer(action: Action, welcome: bool) -> Vec<Value> {
    match action {
        Action::IsAuthorized | Action::IsValidated => vec![u8::from(welcome).to_string().into()],
        Action::RegisterDevice => vec!["".into()],
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

    #[test]
    fn each_action_has_its_answer() {
        for action in [Action::IsAuthorized, Action::IsValidated] {
            assert_eq!(answer(action, true), ["1".into()]);
            assert_eq!(answer(action, false), ["0".into()]);
        }
        assert_eq!(answer(Action::RegisterDevice, true), ["".into()]);
    }

    #[test]
    fn four_variables_are_evented_and_stay_as_they_are() {
        let variables = event_variables();
        assert_eq!(variables.len(), 4);
        assert!(variables.iter().all(|(name, value)| name.ends_with("UpdateID") && value == "1"));
    }
}
