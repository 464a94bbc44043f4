//! Devices in words.

use mostra_api::{Device, Folder, ProofStep, RendererAbilities, Sighting};

use crate::output::{bytes, time};

/// What an admitted device may see, in the words of the console.
pub(crate) fn granted(device: &Device, folders: &[Folder]) -> String {
    let words: Vec<&str> = device.kinds.iter().map(|kind| kind_word(kind)).collect();
    let kinds = if words.len() == 3 { "everything".into() } else { words.join(", ") };
    let Some(numbers) = &device.folders else { return kinds };
    let labels: Vec<&str> =
        folders.iter().filter(|f| numbers.contains(&f.id)).map(|f| f.label.as_str()).collect();
    match labels.len() {
        0 => "nothing: its folders are no longer published".into(),
        _ => format!("{kinds} in {}", labels.join(", ")),
    }
}

/// A kind as the screens say it.
pub(crate) fn kind_word(kind: &str) -> &str {
    match kind {
        "video" => "films",
        "picture" => "pictures",
        other => other,
    }
}

pub(crate) fn show_traits(device: &Device) -> String {
    if device.traits.is_empty() {
        return format!("Nothing is done differently for {}.", device.label);
    }
    let mut lines = vec![format!("Done differently for {}", device.label)];
    for (name, value) in &device.traits {
        let by = if device.traits_set.contains_key(name) { "set by you" } else { "by a rule" };
        // A table of ids is long; how many there are says enough here.
        let value = match value {
            serde_json::Value::Object(map) if map.len() > 4 => format!("{} entries", map.len()),
            serde_json::Value::String(text) => text.clone(),
            other => other.to_string(),
        };
        lines.push(format!("  {name:<16} {value}  ({by})"));
    }
    if !device.rules.is_empty() {
        lines.push(format!("Rules that it matched: {}", device.rules.join(", ")));
    }
    lines.join("\n")
}

pub(crate) fn row(device: &Device, folders: &[Folder]) -> Vec<String> {
    let seen = match device.standing.as_str() {
        "admitted" => granted(device, folders),
        _ => "nothing".into(),
    };
    let last =
        device.proof.iter().rfind(|s| s.confirmed).map_or("nothing yet", |s| s.step.as_str());
    let last = if device.unsaved { format!("{last}, not saved yet") } else { last.to_owned() };
    vec![
        device.id.to_string(),
        device.label.clone(),
        device.standing.clone(),
        seen,
        device.address.clone(),
        last.to_owned(),
        time(device.last_seen_ms),
    ]
}

pub(crate) fn sighting(sighting: &Sighting) -> Vec<String> {
    let mark = if sighting.failed { "! " } else { "" };
    vec![
        time(sighting.last_ms),
        sighting.times.to_string(),
        format!("{mark}{}", sighting.what),
        sighting.endpoint.clone(),
    ]
}

/// What it is: said by a person, else concluded.
pub(crate) fn about(device: &Device) -> Vec<(&'static str, String)> {
    let mut all = Vec::new();
    match (&device.device_kind, &device.proposed_kind) {
        (Some(kind), _) => all.push(("kind", kind.replace('-', " "))),
        (None, Some(seems)) => {
            all.push(("kind", format!("{}? {}", seems.kind.replace('-', " "), seems.why)));
        }
        (None, None) => all.push(("kind", "not known".into())),
    }
    let said = [
        ("described as", &device.described_name),
        ("maker", &device.maker),
        ("model", &device.model),
        ("room", &device.room),
        ("note", &device.note),
    ];
    all.extend(said.into_iter().filter_map(|(name, value)| Some((name, value.clone()?))));
    if !device.roles.is_empty() {
        all.push(("roles", device.roles.join(", ")));
    }
    if let Some(can) = &device.abilities {
        all.push(("can", able(can)));
        all.push(("plays", plays(can)));
    }
    all
}

/// What a renderer can do, in words.
pub(crate) fn able(can: &RendererAbilities) -> String {
    let able = [
        ("pause", can.pauses),
        ("go to a place", can.seeks),
        ("take the next item early", can.next),
        ("volume", can.volume),
        ("mute", can.mute),
    ];
    able.iter().filter(|(_, can)| *can).map(|(word, _)| *word).collect::<Vec<_>>().join(", ")
}

/// What a renderer says it plays.
pub(crate) fn plays(can: &RendererAbilities) -> String {
    match can.formats.as_slice() {
        [] => "it does not say".to_owned(),
        formats => formats.join(", "),
    }
}

pub(crate) fn show(device: &Device, seen: &str) -> String {
    let mut lines = vec![format!("{}, {}", device.label, device.standing)];
    let mut line = |name: &str, value: String| lines.push(format!("  {name:<13} {value}"));
    line("number", device.id.to_string());
    match device.address.as_str() {
        "0.0.0.0" => line("address", "not seen yet".into()),
        address => line("address", address.to_owned()),
    }
    let private =
        if device.private_hardware { " (private: it can come back with another)" } else { "" };
    let hardware = device.hardware.as_ref().map(|hardware| format!("{hardware}{private}"));
    line("hardware", hardware.unwrap_or_else(|| "address unknown".into()));
    for (name, value) in about(device) {
        line(name, value);
    }
    if let Some(at) = device.by_doorway_ms {
        line("decided by", format!("the doorway, {}", time(at)));
    }
    if device.endpoints.len() > 1 {
        for endpoint in &device.endpoints {
            let hardware = endpoint.hardware.as_deref().unwrap_or("no hardware address known");
            let seen = time(endpoint.last_seen_ms);
            line("endpoint", format!("{}, {hardware}, last seen {seen}", endpoint.address));
        }
    }
    for udn in &device.udns {
        line("udn", udn.clone());
    }
    line("calls itself", device.user_agent.clone().unwrap_or_else(|| "nothing".into()));
    if device.standing == "admitted" {
        line("may see", seen.to_owned());
    }
    line("first seen", time(device.first_seen_ms));
    line("last seen", time(device.last_seen_ms));
    if let Some(since) = device.away_since_ms {
        line("away", format!("since {}: it answers neither a search nor ARP", time(since)));
    }
    if !device.traits.is_empty() {
        let names: Vec<&str> = device.traits.keys().map(String::as_str).collect();
        let why = match device.rules.as_slice() {
            [] => String::new(),
            rules => format!(" (by rule: {})", rules.join(", ")),
        };
        line("differently", format!("{}{why}", names.join(", ")));
    }
    if let Some(denied) = &device.denied {
        let why = if device.standing == "refused" { "it is refused" } else { "it waits" };
        line("in vain", format!("{} {}, and got nothing: {why}", denied.what, time(denied.at_ms)));
    }
    lines.push(match device.unsaved {
        true => "Proof; what is new in it is not saved yet".into(),
        false => "Proof".into(),
    });
    lines.extend(device.proof.iter().map(step));
    for of_kind in &device.kind_proof {
        lines.push(format!("Proof with {}", kind_word(&of_kind.kind)));
        lines.extend(of_kind.steps.iter().map(step));
    }
    lines.join("\n")
}

fn step(step: &ProofStep) -> String {
    let Some(at) = step.at_ms.filter(|_| step.confirmed) else {
        return format!("  ○ {:<13} not yet", step.step);
    };
    let mut text =
        format!("  ✓ {:<13} {}  {}", step.step, time(at), step.what.as_deref().unwrap_or_default());
    if let Some(item) = &step.item {
        text += &format!(" · {item}");
    }
    if let Some(n) = step.bytes {
        text += &format!(" · {} acknowledged", bytes(n));
    }
    text
}
