//! ConnectionManager:1 (requirements 7.1).

use crate::soap::{Call, Fault};

/// Answers a call as out arguments; `source` lists what the server can send.
///
/// # Errors
/// 401 for an unknown action, 402 for bad arguments, 706 for a connection other than 0.
pub fn answer(call: &Call, source: &str) -> Result<Vec<(&'static str, String)>, Fault> {
    match call.action.as_str() {
        "GetProtocolInfo" => Ok(vec![("Source", source.to_owned()), ("Sink", String::new())]),
        "GetCurrentConnectionIDs" => Ok(vec![("ConnectionIDs", "0".to_owned())]),
        "GetCurrentConnectionInfo" => {
            let id: i32 =
                call.required("ConnectionID")?.trim().parse().map_err(|_| Fault::InvalidArgs)?;
            if id != 0 {
                return Err(Fault::InvalidConnection);
            }
            Ok(vec![
                ("RcsID", "-1".to_owned()),
                ("AVTransportID", "-1".to_owned()),
                ("ProtocolInfo", String::new()),
                ("PeerConnectionManager", String::new()),
                ("PeerConnectionID", "-1".to_owned()),
                ("Direction", "Output".to_owned()),
                ("Status", "OK".to_owned()),
            ])
        }
        _ => Err(Fault::InvalidAction),
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
        assert_eq!(
            answer(&call("GetCurrentConnectionInfo", &[("ConnectionID", "1")]), ""),
            Err(Fault::InvalidConnection)
        );
        assert_eq!(answer(&call("GetCurrentConnectionInfo", &[]), ""), Err(Fault::InvalidArgs));
        assert_eq!(answer(&call("PrepareForConnection", &[]), ""), Err(Fault::InvalidAction));
        let info =
            answer(&call("GetCurrentConnectionInfo", &[("ConnectionID", " 0 ")]), "").unwrap();
        assert_eq!(info[0], ("RcsID", "-1".to_owned()));
        let list = answer(&call("GetProtocolInfo", &[]), "a,b").unwrap();
        assert_eq!(list, [("Source", "a,b".to_owned()), ("Sink", String::new())]);
        let ids = answer(&call("GetCurrentConnectionIDs", &[]), "").unwrap();
        assert_eq!(ids, [("ConnectionIDs", "0".to_owned())]);
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
