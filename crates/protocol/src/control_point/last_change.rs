//! `LastChange` of AVTransport and RenderingControl: an event inside an event (GENA-24).

use crate::model::text::{TITLE, tame};
use crate::model::xml::{self, Limits, XmlError};

/// Changes that are read of one event.
const CHANGES: usize = 200;

/// One variable that changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VariableChange {
    /// Its name.
    pub variable: String,
    /// Its channel, of volume and mute; `Master` where none is named.
    pub channel: String,
    /// Its value.
    pub value: String,
}

/// Reads the text of a `LastChange`, of which only instance 0 counts. It holds what changed and
/// nothing else (GENA-25). This takes the memory that [`xml::read`] takes.
///
/// # Errors
/// [`XmlError`] when it is no event.
pub fn read_last_change(text: &str) -> Result<Vec<VariableChange>, XmlError> {
    let event = xml::read(text, Limits::DOCUMENT)?;
    if &*event.name != "Event" {
        return Err(XmlError::Malformed("no event".into()));
    }
    let instances = event.children.iter().filter(|instance| {
        let number = instance.attribute("val").unwrap_or("0").trim();
        &*instance.name == "InstanceID" && number == "0"
    });
    let changes = instances.flat_map(|instance| &instance.children).filter_map(|variable| {
        let channel = ["channel", "Channel"].iter().find_map(|name| variable.attribute(name));
        let value = ["val", "Val"].iter().find_map(|name| variable.attribute(name))?;
        Some(VariableChange {
            variable: (*variable.name).to_owned(),
            channel: channel.unwrap_or("Master").to_owned(),
            value: value.to_owned(),
        })
    });
    // Metadata is a document of its own and longer than any title.
    let bounded = |change: VariableChange| match change.variable.ends_with("MetaData") {
        true => change,
        false => VariableChange { value: tame(&change.value, TITLE).into_owned(), ..change },
    };
    Ok(changes.take(CHANGES).map(bounded).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_changed_is_read_in_any_namespace() {
        let text = "<Event xmlns='urn:schemas-upnp-org:metadata-1-0/RCS/'><InstanceID val='0'>\
                    <Volume val='17' channel='Master'/><Mute Channel='LF' val='1'/>\
                    <TransportState val='PLAYING'/><Odd/></InstanceID>\
                    <InstanceID val='3'><Volume val='99'/></InstanceID></Event>";
        let changes = read_last_change(text).unwrap();
        let told: Vec<(&str, &str, &str)> =
            changes.iter().map(|c| (&*c.variable, &*c.channel, &*c.value)).collect();
        let expected = [
            ("Volume", "Master", "17"),
            ("Mute", "LF", "1"),
            ("TransportState", "Master", "PLAYING"),
        ];
        assert_eq!(told, expected);
    }

    #[test]
    fn an_event_inside_an_event_is_read_under_the_same_limits_and_no_deeper() {
        let inside = |text: &str| format!("<Event><InstanceID val='0'>{text}</InstanceID></Event>");
        let deep = "<a>".repeat(40) + &"</a>".repeat(40);
        assert_eq!(read_last_change(&inside(&deep)), Err(XmlError::Limit));
        let doctype =
            "<!DOCTYPE Event [<!ENTITY a 'b'>]>".to_owned() + &inside("<Volume val='&a;'/>");
        assert!(read_last_change(&doctype).is_err());
        assert!(read_last_change(&inside("<Volume val='&a;'/>")).is_err());
        // What is in there once more is text, whatever it holds.
        let third = "&lt;!DOCTYPE a&gt;&lt;a&gt;";
        let text = inside(&format!("<CurrentTrackMetaData val='{third}'/>"));
        assert_eq!(read_last_change(&text).unwrap()[0].value, "<!DOCTYPE a><a>");
    }

    #[test]
    fn what_is_no_event_is_none_and_a_long_one_is_cut() {
        assert!(read_last_change("<Other/>").is_err() && read_last_change("x").is_err());
        assert_eq!(read_last_change("<Event/>").unwrap(), []);
        let many = "<Volume val='1'/>".repeat(1000);
        let text = format!("<Event><InstanceID val='0'>{many}</InstanceID></Event>");
        assert_eq!(read_last_change(&text).unwrap().len(), CHANGES);
    }
}
