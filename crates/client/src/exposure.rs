//! exposure: what is open to whom.

use mostra_api::{AdmittedDevice, Exposure};

use crate::connection::{Connection, Failure};
use crate::device_words::kind_word;
use crate::output::{Output, count, table, time};

pub(crate) async fn show(connection: &Connection, output: &Output) -> Result<(), Failure> {
    let exposure: Exposure = connection.get("/exposure").await?;
    output.print(&exposure, in_words)
}

fn in_words(exposure: &Exposure) -> String {
    let mut parts = Vec::new();
    let listeners = exposure
        .listeners
        .iter()
        .map(|one| vec![one.address.clone(), one.what.clone(), one.who.clone()]);
    parts.push(table(&["address", "what is there", "who reaches it"], listeners));
    if exposure.folders.is_empty() {
        parts.push("No folder is published.".into());
    } else {
        let folders = exposure.folders.iter().map(|folder| {
            vec![folder.label.clone(), folder.root.clone(), folder.devices.to_string()]
        });
        parts.push(table(&["folder", "where", "devices that may see it"], folders));
    }
    if exposure.devices.is_empty() {
        parts.push("No device is let in.".into());
    } else {
        parts.push(table(
            &["device", "may see", "let in by", "since"],
            exposure.devices.iter().map(device),
        ));
    }
    let accounts = exposure.accounts.iter();
    let accounts: Vec<String> = accounts
        .map(|account| format!("{} ({})", account.name, count(account.sessions.into(), "session")))
        .collect();
    parts.push(format!(
        "Accounts: {}. New devices: doorway {}.",
        accounts.join(", "),
        exposure.doorway
    ));
    if exposure.wide.is_empty() {
        parts.push("Nothing is wider than it needs to be.".into());
    } else {
        let wide =
            exposure.wide.iter().map(|wide| format!("! {}\n    {}", wide.what, wide.command));
        parts.push(wide.collect::<Vec<_>>().join("\n"));
    }
    parts.push(exposure.honest.clone());
    parts.join("\n\n")
}

fn device(device: &AdmittedDevice) -> Vec<String> {
    let words: Vec<&str> = device.kinds.iter().map(|kind| kind_word(kind)).collect();
    let kinds = if words.len() == 3 { "everything".into() } else { words.join(", ") };
    let seen = match &device.folders {
        Some(folders) => format!("{kinds} in {}", folders.join(", ")),
        None => kinds,
    };
    vec![
        device.label.clone(),
        seen,
        device.by.clone().unwrap_or_else(|| "not recorded".into()),
        device.since_ms.map(time).unwrap_or_default(),
    ]
}
