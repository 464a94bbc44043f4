//! The catalogue as a device gets it.

use mostra_api::{SeenBy, SeenObject};

use crate::connection::{Connection, Failure};
use crate::output::{Output, bytes, table};

/// What an object holds, or what it is, as a device gets it.
pub(crate) async fn list(
    connection: &Connection,
    output: &Output,
    device: &str,
    object: &str,
    query: &[(&'static str, String)],
) -> Result<(), Failure> {
    let device = crate::device::find(connection, device).await?;
    let path = format!("/devices/{}/catalogue/{object}", device.id);
    let seen: SeenBy = connection.ask(&path, query).await?;
    output.print(&seen, in_words)
}

fn in_words(seen: &SeenBy) -> String {
    let mut lines = vec![match seen.standing.as_str() {
        "admitted" => format!("As {} gets it:", seen.label),
        standing => format!("{} is {standing}, so it gets:", seen.label),
    }];
    if seen.objects.is_empty() {
        lines.push("  nothing".into());
        return lines.join("\n");
    }
    lines.push(table(&["id", "title", "class", "offers"], seen.objects.iter().map(row)));
    let last = seen.start as usize + seen.objects.len();
    if last < seen.total as usize {
        lines.push(format!("{} of {}; go on with --start {last}.", seen.objects.len(), seen.total));
    }
    lines.join("\n")
}

fn row(object: &SeenObject) -> Vec<String> {
    let offers = match object.child_count {
        Some(count) if object.container => format!("{count} entries"),
        _ => {
            let offered = object.resources.iter().map(|resource| {
                let mime = resource.protocol_info.split(':').nth(2).unwrap_or("?");
                match resource.size {
                    Some(size) => format!("{mime} ({})", bytes(size)),
                    None => mime.to_owned(),
                }
            });
            offered.collect::<Vec<_>>().join(", ")
        }
    };
    vec![object.id.clone(), object.title.clone(), object.class.clone(), offers]
}
