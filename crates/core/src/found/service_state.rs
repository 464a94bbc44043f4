//! What a subscription tells of a service's state variables.

use std::collections::BTreeMap;

use mostra_protocol::Moment;
use mostra_protocol::control_point::read_last_change;

/// Variables kept of one service.
const VARIABLES: usize = 256;
/// Characters kept of a name or a channel, and of a value: metadata is a document of its own.
const NAME: usize = 128;
const VALUE: usize = 4096;
/// Bytes of a `LastChange` that is read: events are taken where nothing may take long.
const LAST_CHANGE: usize = 64 << 10;

/// How a subscription stands.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum SubscriptionPhase {
    /// It is asked for.
    #[default]
    Asking,
    /// It was granted.
    Granted,
    /// It was granted, and nothing comes (GENA-28).
    Silent,
    /// It was not granted, for this reason; it is tried again.
    Failed(String),
}

/// A state variable as it was told last.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VariableValue {
    /// Its value.
    pub value: String,
    /// When it was told.
    pub at: Moment,
}

/// The state variables of a service, by name and channel.
#[derive(Debug, Clone, Default)]
pub struct ServiceState {
    /// How the subscription stands.
    pub phase: SubscriptionPhase,
    /// Events that came.
    pub events: u32,
    /// How many times events were missed.
    pub missed: u32,
    variables: BTreeMap<(String, String), VariableValue>,
}

impl ServiceState {
    /// Takes an event: it holds what changed and nothing else (GENA-25). A `LastChange` is an event
    /// inside an event (GENA-24); one that cannot be read, or is longer than 64 KiB, is kept as it is.
    pub fn apply(&mut self, now: Moment, variables: Vec<(String, String)>) {
        self.phase = SubscriptionPhase::Granted;
        self.events = self.events.saturating_add(1);
        for (name, value) in variables {
            let is_read = name == "LastChange" && value.len() <= LAST_CHANGE;
            match is_read.then(|| read_last_change(&value)) {
                Some(Ok(changes)) => {
                    for change in changes {
                        // Only volume and its like have channels, and most have this one.
                        let channel = if change.channel == "Master" { "" } else { &change.channel };
                        self.set(now, &change.variable, channel, &change.value);
                    }
                }
                _ => self.set(now, &name, "", &value),
            }
        }
    }

    fn set(&mut self, now: Moment, name: &str, channel: &str, value: &str) {
        let cut = |text: &str, most: usize| -> String {
            let shown = |c: &char| !c.is_control() || matches!(c, '\n' | '\t');
            text.chars().filter(shown).take(most).collect()
        };
        let key = (cut(name, NAME), cut(channel, NAME));
        if self.variables.len() < VARIABLES || self.variables.contains_key(&key) {
            self.variables.insert(key, VariableValue { value: cut(value, VALUE), at: now });
        }
    }

    /// The variables: name, channel (empty where it has none) and value.
    pub fn variables(&self) -> impl Iterator<Item = (&str, &str, &VariableValue)> {
        self.variables.iter().map(|((name, channel), value)| (&**name, &**channel, value))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(state: &ServiceState) -> Vec<(String, String, String)> {
        let row = |(name, channel, value): (&str, &str, &VariableValue)| {
            (name.to_owned(), channel.to_owned(), value.value.clone())
        };
        state.variables().map(row).collect()
    }

    fn row(name: &str, channel: &str, value: &str) -> (String, String, String) {
        (name.into(), channel.into(), value.into())
    }

    #[test]
    fn what_changed_is_merged_into_what_is_known_and_last_change_is_taken_apart() {
        let mut state = ServiceState::default();
        let event = |inner: &str| {
            let text = format!("<Event><InstanceID val='0'>{inner}</InstanceID></Event>");
            vec![("LastChange".to_owned(), text)]
        };
        state.apply(
            Moment::from_secs(1),
            event("<Volume channel='Master' val='20'/><Mute val='0'/>"),
        );
        state.apply(
            Moment::from_secs(2),
            event("<Volume channel='Master' val='35'/><Volume channel='LF' val='9'/>"),
        );
        state.apply(Moment::from_secs(3), vec![("SystemUpdateID".into(), "7".into())]);
        let expected = [
            row("Mute", "", "0"),
            row("SystemUpdateID", "", "7"),
            row("Volume", "", "35"),
            row("Volume", "LF", "9"),
        ];
        assert_eq!(told(&state), expected);
        assert_eq!((state.events, &state.phase), (3, &SubscriptionPhase::Granted));
        let (_, _, mute) = state.variables().next().unwrap();
        assert_eq!(mute.at, Moment::from_secs(1), "it says when each was told");
    }

    #[test]
    fn it_stays_bounded_whatever_comes() {
        let mut state = ServiceState::default();
        let many = (0..1000).map(|n| (format!("V{n}"), "x".repeat(10_000))).collect();
        state.apply(Moment::EPOCH, many);
        state.apply(Moment::EPOCH, vec![("LastChange".into(), "no event\u{1b}[2J".into())]);
        state.apply(Moment::EPOCH, vec![("V0".into(), "new\u{1b}".into())]);
        let rows = told(&state);
        assert_eq!(rows.len(), VARIABLES);
        assert!(rows.iter().all(|(_, _, value)| value.len() <= VALUE));
        assert!(rows.contains(&row("V0", "", "new")), "what is known still changes");
    }
}
