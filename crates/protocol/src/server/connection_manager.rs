//! ConnectionManager:1 (requirements 7.1).

use crate::messages::soap::{Call, Fault, Value};
use crate::model::service::connection_manager::Action;

/// Answers a call with its out arguments; `source` lists what the server can send.
///
/// # Errors
/// 402 for bad arguments, 706 for a connection other than 0.
pub fn answer(action: Action, call: &Call, source: &str) -> Result<Vec<Value>, Fault> {
    match action {
        Action::GetProtocolInfo => Ok(vec![source.into(), "".into()]),
        Action::GetCurrentConnectionIDs => Ok(vec!["0".into()]),
        Action::GetCurrentConnectionInfo => {
            let id: i32 =
                call.required("ConnectionID")?.trim().parse().map_err(|_| Fault::InvalidArgs)?;
            if id != 0 {
                return Err(Fault::InvalidConnection);
            }
            Ok(["-1", "-1", "", "", "-1", "Output", "OK"].map(Value::from).to_vec())
        }
    }
}

/// Joins protocolInfo values into a Source list (CM-2).
pub fn source_list(entries: impl IntoIterator<Item = String>) -> String {
    let mut entries: Vec<String> =
        entries.into_iter().map(|e| e.replace('\\', "\\\\").replace(',', "\\,")).collect();
    entries.sort();
    entries.dedup();
    entries.join(",")
}

/// The evented variables and their values (CM-7, CM-8).
pub fn event_variables(source: &str) -> Vec<(&'static str, String)> {
    vec![
        ("SourceProtocolInfo", source.to_owned()),
        ("SinkProtocolInfo", String::new()),
        ("CurrentConnectionIDs", "0".to_owned()),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    fn call(action: &str, arguments: &[(&str, &str)]) -> Call {
        let owned = |(n, v): &(&str, &str)| ((*n).to_owned(), (*v).to_owned());
        Call {
            namespace: String::new(),
            action: action.into(),
            arguments: arguments.iter().map(owned).collect(),
        }
    }

    #[test]
    fn connections() {
        let info = |arguments| {
            let action = Action::GetCurrentConnectionInfo;
            answer(action, &call("GetCurrentConnectionInfo", arguments), "")
        };
        assert_eq!(info(&[("ConnectionID", "1")]), Err(Fault::InvalidConnection));
        assert_eq!(info(&[]), Err(Fault::InvalidArgs));
        assert_eq!(info(&[("ConnectionID", " 0 ")]).unwrap()[0], "-1".into());
        let list = answer(Action::GetProtocolInfo, &call("GetProtocolInfo", &[]), "a,b").unwrap();
        assert_eq!(list, ["a,b".into(), "".into()]);
        let ids = Action::GetCurrentConnectionIDs;
        let ids = answer(ids, &call("GetCurrentConnectionIDs", &[]), "").unwrap();
        assert_eq!(ids, ["0".into()]);
    }

    #[test]
    fn all_three_variables_are_evented() {
        let variables = event_variables("http-get:*:audio/mpeg:*");
        let value = |name| variables.iter().find(|(n, _)| *n == name).map(|(_, v)| v.as_str());
        assert_eq!(value("SourceProtocolInfo"), Some("http-get:*:audio/mpeg:*"));
        assert_eq!(
            (value("SinkProtocolInfo"), value("CurrentConnectionIDs")),
            (Some(""), Some("0"))
        );
        assert_eq!(variables.len(), 3);
    }

    #[test]
    fn commas_are_escaped() {
        assert_eq!(source_list(["b".into(), "a,1".into(), "b".into()]), "a\\,1,b");
    }
}
