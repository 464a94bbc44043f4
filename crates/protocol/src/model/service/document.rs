//! Service documents (UDA §2.5): written from a service's table, and read.

use std::fmt::Write as _;

use super::{ActionRow, Argument, Definition, ServiceAction};
use crate::model::identifiers::NS_SERVICE;
use crate::model::xml::{self, Element, Limits, XmlError};

/// Writes a service's document.
pub fn write(service: &Definition) -> String {
    let mut out = format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<scpd xmlns=\"{NS_SERVICE}\">\n\
         <specVersion><major>1</major><minor>0</minor></specVersion>\n<actionList>\n"
    );
    for action in service.actions {
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
    for variable in service.variables {
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
        if let Some((least, most)) = variable.range {
            let _ = write!(
                out,
                "<allowedValueRange><minimum>{least}</minimum><maximum>{most}</maximum>\
                 </allowedValueRange>"
            );
        }
        out.push_str("</stateVariable>\n");
    }
    out.push_str("</serviceStateTable>\n</scpd>");
    out
}

/// A state variable of a document that was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadVariable {
    /// Its name.
    pub name: String,
    /// Whether changes are sent to subscribers.
    pub evented: bool,
    /// The values allowed; empty for any.
    pub allowed: Vec<String>,
    /// The smallest and the largest number allowed, where both can be read.
    pub range: Option<(i64, i64)>,
}

/// An action of a document that was read: its arguments with the variables they relate to.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ReadAction {
    /// Its name.
    pub name: String,
    /// Arguments sent by the caller, in order.
    pub inputs: Vec<(String, String)>,
    /// Arguments answered, in order.
    pub outputs: Vec<(String, String)>,
}

impl ReadAction {
    fn of(row: &ActionRow) -> ReadAction {
        let owned = |arguments: &[Argument]| {
            let pairs = arguments.iter();
            pairs.map(|(name, variable)| ((*name).to_owned(), (*variable).to_owned())).collect()
        };
        ReadAction {
            name: row.name.to_owned(),
            inputs: owned(row.inputs),
            outputs: owned(row.outputs),
        }
    }

    fn read(entry: &Element) -> Option<ReadAction> {
        let name = entry.child_text("name")?.trim().to_owned();
        let mut action = ReadAction { name, ..ReadAction::default() };
        let arguments = entry.child("argumentList").map(|list| list.children.as_slice());
        for argument in arguments.unwrap_or_default().iter().take(ARGUMENTS) {
            let text = |name: &str| argument.child_text(name).unwrap_or_default().trim().to_owned();
            let pair = (text("name"), text("relatedStateVariable"));
            match &*text("direction") {
                "out" => action.outputs.push(pair),
                _ => action.inputs.push(pair),
            }
        }
        Some(action)
    }

    /// Whether it only reads, by its name: the standards' actions that change nothing begin so.
    pub fn only_reads(&self) -> bool {
        ["Get", "Browse", "Search", "List", "Is"].iter().any(|begin| {
            let rest = self.name.strip_prefix(begin);
            rest.is_some_and(|rest| !rest.starts_with(|c: char| c.is_lowercase()))
        })
    }
}

/// What a control point takes from a service document.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ReadDocument {
    /// Its actions.
    pub actions: Vec<ReadAction>,
    /// Its state variables.
    pub variables: Vec<ReadVariable>,
}

impl ReadDocument {
    /// What counts where no document can be read: what the table says (SCP-20).
    pub fn of(service: &Definition) -> ReadDocument {
        let variables = service.variables.iter().map(|variable| ReadVariable {
            name: variable.name.to_owned(),
            evented: variable.evented,
            allowed: variable.allowed.iter().map(|value| (*value).to_owned()).collect(),
            range: variable.range.map(|(least, most)| (least.into(), most.into())),
        });
        ReadDocument {
            actions: service.actions.iter().map(ReadAction::of).collect(),
            variables: variables.collect(),
        }
    }

    /// Whether an action is offered (CTL-1).
    pub fn offers(&self, action: impl ServiceAction) -> bool {
        self.action(action.row().name).is_some()
    }

    /// An action by name.
    pub fn action(&self, name: &str) -> Option<&ReadAction> {
        self.actions.iter().find(|action| action.name == name)
    }

    /// A variable by name.
    pub fn variable(&self, name: &str) -> Option<&ReadVariable> {
        self.variables.iter().find(|variable| variable.name == name)
    }
}

/// Arguments of an action that are read.
const ARGUMENTS: usize = 64;
/// Values allowed of a variable that are read.
const ALLOWED: usize = 256;
/// Entries of a document that are read of each kind.
const ENTRIES: usize = 500;

/// Reads a service document, in the memory that [`xml::read`] takes.
///
/// # Errors
/// [`XmlError`] when it is not XML within limits, or lists no actions.
pub fn read(text: &str) -> Result<ReadDocument, XmlError> {
    let root = xml::read(text, Limits::DOCUMENT)?;
    let list = |name: &str| {
        let list = root.child(name).map(|list| list.children.as_slice());
        list.map(|entries| &entries[..entries.len().min(ENTRIES)])
    };
    let actions = list("actionList").ok_or_else(|| XmlError::Malformed("no actions".into()))?;
    let name = |entry: &Element| entry.child_text("name").map(|name| name.trim().to_owned());
    let variables = list("serviceStateTable").unwrap_or_default();
    let variable = |entry: &Element| {
        let allowed = entry.child("allowedValueList").map(|list| list.children.as_slice());
        let bound = |end: &str| {
            let range = entry.child("allowedValueRange")?;
            range.child_text(end)?.trim().parse().ok()
        };
        Some(ReadVariable {
            name: name(entry)?,
            // Said in the attribute, where it is said at all; yes is usual.
            evented: entry.attribute("sendEvents").is_none_or(|told| told != "no"),
            allowed: allowed
                .unwrap_or_default()
                .iter()
                .take(ALLOWED)
                .map(|v| v.text.trim().to_owned())
                .collect(),
            range: bound("minimum").zip(bound("maximum")).filter(|(least, most)| least <= most),
        })
    };
    Ok(ReadDocument {
        actions: actions.iter().filter_map(ReadAction::read).collect(),
        variables: variables.iter().filter_map(variable).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::super::{
        av_transport, connection_manager, content_directory, registrar, rendering_control,
        wan_ip_connection,
    };
    use super::*;

    const TABLES: [&Definition; 6] = [
        &content_directory::DEFINITION,
        &connection_manager::DEFINITION,
        &registrar::DEFINITION,
        &av_transport::DEFINITION,
        &rendering_control::DEFINITION,
        &wan_ip_connection::DEFINITION,
    ];

    #[test]
    fn what_is_written_reads_back() {
        for table in TABLES {
            assert_eq!(read(&write(table)).unwrap(), ReadDocument::of(table), "{}", table.name);
        }
        let volume = ReadDocument::of(&rendering_control::DEFINITION);
        assert!(volume.offers(rendering_control::Action::SetVolume));
        assert_eq!(volume.variable("Volume").unwrap().range, Some((0, 100)));
        assert!(!ReadDocument::default().offers(rendering_control::Action::SetVolume));
        let reads =
            |name: &str| ReadAction { name: name.into(), ..ReadAction::default() }.only_reads();
        assert!(reads("GetVolume") && reads("Browse") && reads("IsAuthorized") && reads("Search"));
        assert!(
            !reads("SetVolume") && !reads("Stop") && !reads("Issue") && !reads("DestroyObject")
        );
    }

    #[test]
    fn odd_documents_are_read_as_far_as_they_go() {
        let text = "<scpd><actionList><action><name> Play </name></action><action/></actionList>\
                    <serviceStateTable><stateVariable><name>Volume</name><allowedValueRange>\
                    <minimum>-10</minimum><maximum>30</maximum></allowedValueRange></stateVariable>\
                    <stateVariable sendEvents='no'><name>Mute</name><allowedValueRange>\
                    <minimum>9</minimum><maximum>1</maximum></allowedValueRange></stateVariable>\
                    </serviceStateTable></scpd>";
        let document = read(text).unwrap();
        assert_eq!(document.actions.len(), 1);
        let play = document.action("Play").unwrap();
        assert!(play.inputs.is_empty() && !play.only_reads());
        let volume = document.variable("Volume").unwrap();
        assert_eq!((volume.range, volume.evented), (Some((-10, 30)), true));
        let mute = document.variable("Mute").unwrap();
        assert_eq!((mute.range, mute.evented), (None, false));
        assert!(read("<scpd/>").is_err() && read("no xml").is_err());
    }

    #[test]
    fn every_argument_relates_to_a_variable_that_exists() {
        for service in TABLES {
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
        let evented = |service: &Definition| {
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
            evented(&content_directory::DEFINITION),
            ["ContainerUpdateIDs", "SystemUpdateID", "TransferIDs"]
        );
        assert_eq!(
            evented(&connection_manager::DEFINITION),
            ["CurrentConnectionIDs", "SinkProtocolInfo", "SourceProtocolInfo"]
        );
        assert_eq!(evented(&registrar::DEFINITION).len(), 4);
    }

    #[test]
    fn in_arguments_come_first() {
        let text = write(&content_directory::DEFINITION);
        let browse = &text[text.find("<name>Browse</name>").unwrap()..];
        assert!(browse.find("SortCriteria").unwrap() < browse.find("NumberReturned").unwrap());
    }
}
