//! A recorded conversation, read from its file.

use std::path::Path;

use anyhow::Context as _;
use mostra_protocol::model::conversation::{EDITION, Entry, Exchange, Heading};

/// A recording.
#[derive(Debug)]
pub(crate) struct RecordedConversation {
    /// Who spoke with whom.
    pub heading: Heading,
    /// What was said, in order.
    pub entries: Vec<Entry>,
}

impl RecordedConversation {
    /// Reads the file of a recording.
    ///
    /// # Errors
    /// A sentence that names the file, the line and what is wrong with it.
    pub(crate) fn read(file: &Path) -> anyhow::Result<RecordedConversation> {
        let text = std::fs::read_to_string(file)
            .with_context(|| format!("{} cannot be read", file.display()))?;
        let mut lines = text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty());
        let (_, first) = lines.next().with_context(|| format!("{} is empty", file.display()))?;
        let heading: Heading = serde_json::from_str(first)
            .with_context(|| format!("{} is no recorded conversation", file.display()))?;
        if heading.conversation != EDITION {
            anyhow::bail!("{} is of edition {}", file.display(), heading.conversation);
        }
        let entry = |(number, line): (usize, &str)| {
            serde_json::from_str(line)
                .with_context(|| format!("line {} of {}", number + 1, file.display()))
        };
        Ok(RecordedConversation {
            heading,
            entries: lines.map(entry).collect::<anyhow::Result<_>>()?,
        })
    }

    /// The requests of the device, in order.
    pub(crate) fn requests(&self) -> impl Iterator<Item = &Exchange> {
        self.entries.iter().filter_map(|entry| match entry {
            Entry::Request(exchange) => Some(exchange),
            Entry::Heard(_) | Entry::Sent(_) | Entry::Event(_) | Entry::Left { .. } => None,
        })
    }
}

/// The service type without its version and the action that a request calls.
pub(crate) fn action(exchange: &Exchange) -> Option<(&str, &str)> {
    let field = exchange.field("soapaction")?.trim().trim_matches('"');
    let (service, action) = field.split_once('#')?;
    Some((mostra_protocol::model::identifiers::split_version(service).0, action))
}
