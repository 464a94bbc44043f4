//! The hand-over as one self-contained page that prints on A4.

use std::fmt::Write as _;

use mostra_api::{Handover, HandoverDevice};

/// What is written once at the top: looks for the screen and for paper.
const STYLE: &str = "\
body{font:16px/1.45 system-ui,sans-serif;color:#1d2b30;max-width:46rem;margin:2rem auto;padding:0 1rem}\
h1{font:600 1.9rem Georgia,serif;margin:0}h2{font:600 1.25rem Georgia,serif;margin:2rem 0 .5rem;\
border-bottom:2px solid #0c6660;padding-bottom:.2rem}h3{font-size:1rem;margin:1rem 0 .2rem}\
.rule{border:2px solid #0c6660;border-radius:12px;padding:1rem 1.2rem 1rem 2.4rem;font-size:1.1rem}\
.rule li{margin:.4rem 0}p{margin:.3rem 0}.soft{color:#56666a}.good{color:#0c6660}.bad{color:#9b3420}\
table{border-collapse:collapse;width:100%}td,th{text-align:left;vertical-align:top;\
padding:.35rem .6rem .35rem 0;border-bottom:1px solid #dcd6c8}td.n,th.n{text-align:right}\
.ladder{display:flex;flex-wrap:wrap;gap:.2rem .9rem;padding:0;margin:.3rem 0;list-style:none}\
.device{break-inside:avoid;border-bottom:1px solid #dcd6c8;padding:.4rem 0}\
code{overflow-wrap:anywhere}@page{size:A4;margin:16mm}\
@media print{body{margin:0;max-width:none;padding:0;font-size:10.5pt}h2{break-after:avoid}\
tr{break-inside:avoid}}";

/// How the household does what comes up.
const HOW_TO: [(&str, &str); 4] = [
    (
        "Add files",
        "Copy them into one of the folders above. They show on the devices by themselves, films within a minute.",
    ),
    (
        "Let in a device",
        "Open the console on this computer, or on a tablet if it is open to the house. Who asked stands under Today: press “Let in”, and choose what it may see.",
    ),
    (
        "Switch off and on",
        "In the console under Today: “Switch off” takes the house off all devices until somebody switches it on again, or until a time. The command is: mostra house off, mostra house on.",
    ),
    (
        "When something does not play",
        "Look at Preflight in the console: it says what is wrong with this computer or the network. Then walk the device through: the page says at each step what to press and what is likely wrong.",
    ),
];

/// Text as it stands in a page.
fn text(raw: &str) -> String {
    raw.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// A day in words, by this host's clock.
fn day(ms: u64) -> String {
    let stamp =
        jiff::Timestamp::from_millisecond(i64::try_from(ms).unwrap_or(0)).unwrap_or_default();
    stamp.to_zoned(jiff::tz::TimeZone::system()).strftime("%-d %B %Y, %H:%M").to_string()
}

/// The page.
pub(crate) fn page(all: &Handover) -> String {
    let mut page = String::with_capacity(32 << 10);
    let house = text(&all.house);
    let _ = write!(
        page,
        "<!doctype html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>{house}: hand-over\
         </title><meta name=\"viewport\" content=\"width=device-width\"><style>{STYLE}</style></head>\
         <body><h1>{house}</h1><p class=\"soft\">Hand-over of {}. Keep this paper.</p>",
        day(all.at_ms)
    );
    page.push_str("<h2>The rule</h2><ol class=\"rule\">");
    for line in &all.rule {
        let _ = write!(page, "<li>{}</li>", text(line));
    }
    page.push_str("</ol>");
    changes(&mut page, all);
    the_house(&mut page, all);
    folders(&mut page, all);
    page.push_str("<h2>Devices</h2>");
    if all.devices.is_empty() {
        page.push_str("<p>None was let in or refused yet.</p>");
    }
    for one in &all.devices {
        device(&mut page, one);
    }
    preflight(&mut page, all);
    settings(&mut page, all);
    page.push_str("<h2>How to</h2>");
    for (title, how) in HOW_TO {
        let _ = write!(page, "<h3>{title}</h3><p>{how}</p>");
    }
    page.push_str("</body></html>\n");
    page
}

fn changes(page: &mut String, all: &Handover) {
    let Some(last) = all.last_ms else { return };
    let _ = write!(page, "<h2>Changed since {}</h2>", day(last));
    if all.changes.is_empty() {
        page.push_str("<p>Nothing.</p>");
        return;
    }
    page.push_str("<ul>");
    for change in &all.changes {
        let _ = write!(page, "<li>{}</li>", text(change));
    }
    page.push_str("</ul>");
}

fn the_house(page: &mut String, all: &Handover) {
    let doorway = match all.doorway.as_str() {
        "open" => "are let in",
        "closed" => "are turned away",
        _ => "wait until somebody decides",
    };
    let rows = [
        ("Computer", all.host.clone()),
        ("Reached by devices at", all.addresses.join(", ")),
        ("Console", format!("http://{} on that computer", all.console)),
        ("New devices", doorway.to_owned()),
        ("Program", format!("Mostra {}", all.version)),
    ];
    page.push_str("<h2>The house</h2><table>");
    for (what, value) in rows {
        let _ = write!(page, "<tr><th>{what}</th><td>{}</td></tr>", text(&value));
    }
    page.push_str("</table>");
}

fn folders(page: &mut String, all: &Handover) {
    page.push_str("<h2>Folders</h2>");
    if all.folders.is_empty() {
        page.push_str("<p>None is published yet.</p>");
        return;
    }
    page.push_str(
        "<table><tr><th>Folder</th><th>Where</th><th class=\"n\">Films</th>\
         <th class=\"n\">Tracks</th><th class=\"n\">Pictures</th></tr>",
    );
    for folder in &all.folders {
        let _ = write!(
            page,
            "<tr><td>{}</td><td><code>{}</code></td><td class=\"n\">{}</td><td class=\"n\">{}</td>\
             <td class=\"n\">{}</td></tr>",
            text(&folder.label),
            text(&folder.path),
            folder.films,
            folder.tracks,
            folder.pictures
        );
    }
    page.push_str("</table>");
}

fn device(page: &mut String, one: &HandoverDevice) {
    let is_good = matches!(one.verdict.as_deref(), Some("confirmed" | "kept-out"));
    let (mark, look) = match (&one.verdict, is_good) {
        (_, true) => ("✓ ", "good"),
        (Some(_), false) => ("✗ ", "bad"),
        (None, _) => ("", "soft"),
    };
    let room = one.room.as_ref().map(|room| format!(", {room}")).unwrap_or_default();
    let standing = if one.standing == "admitted" { "let in" } else { "refused" };
    let _ = write!(
        page,
        "<div class=\"device\"><h3>{}<span class=\"soft\">{} ({})</span></h3>\
         <p>It is {standing} and may see {}.</p><p class=\"{look}\">{mark}{}</p>",
        text(&one.label),
        text(&room),
        text(&one.address),
        text(&one.may_see),
        text(&one.verdict_text),
    );
    page.push_str("<ul class=\"ladder\">");
    for step in &one.proof {
        let (mark, look) = if step.confirmed { ("✓", "good") } else { ("○", "soft") };
        let _ = write!(page, "<li class=\"{look}\">{mark} {}</li>", text(&step.step));
    }
    page.push_str("</ul>");
    for cause in &one.causes {
        // What it comes to is said above.
        let seen = Some(&cause.seen).filter(|seen| **seen != one.verdict_text);
        let seen = seen.map(|seen| format!("{} ", text(seen))).unwrap_or_default();
        let _ = write!(page, "<p>{seen}{}</p>", text(&cause.remedy));
    }
    if let Some(at) = one.walked_ms {
        let _ = write!(page, "<p class=\"soft\">Walked through {}.</p>", day(at));
    }
    if !one.due_again.is_empty() {
        let changed = text(&one.due_again.join(", "));
        let _ = write!(page, "<p class=\"bad\">Due again: {changed} changed since.</p>");
    }
    page.push_str("</div>");
}

fn preflight(page: &mut String, all: &Handover) {
    page.push_str("<h2>This computer and its network</h2>");
    let fine = all.preflight.checks.iter().filter(|check| check.outcome == "ok").count();
    let open: Vec<_> = all
        .preflight
        .checks
        .iter()
        .filter(|check| ["attention", "stops you"].contains(&check.outcome.as_str()))
        .collect();
    let _ = write!(page, "<p>{fine} checks are as they should be.</p>");
    for check in open {
        let remedy = check.remedy.as_deref().unwrap_or_default();
        let _ = write!(
            page,
            "<p class=\"bad\"><b>{}</b>: {}</p><p>{}</p>",
            text(&check.title),
            text(&check.measured),
            text(remedy)
        );
    }
}

fn settings(page: &mut String, all: &Handover) {
    if all.settings.is_empty() {
        return;
    }
    page.push_str("<h2>Settings that are not as they come</h2><table>");
    for setting in &all.settings {
        let _ = write!(
            page,
            "<tr><td><code>{}</code></td><td><code>{}</code></td><td>{}</td></tr>",
            text(&setting.name),
            text(&setting.value),
            text(&setting.about)
        );
    }
    page.push_str("</table>");
}

#[cfg(test)]
mod tests {
    use super::*;
    use mostra_api::Preflight;

    #[test]
    fn what_others_call_themselves_is_text_in_the_page() {
        let device = HandoverDevice {
            device: 1,
            label: "<script>alert(1)</script> & \"Lounge\"".into(),
            room: None,
            address: "192.0.2.7".into(),
            standing: "admitted".into(),
            may_see: "everything".into(),
            proof: Vec::new(),
            walked_ms: None,
            verdict: None,
            verdict_text: "It was not walked through.".into(),
            causes: Vec::new(),
            due_again: Vec::new(),
        };
        let all = Handover {
            house: "Pellworth Light".into(),
            at_ms: 0,
            rule: vec!["a".into(), "b".into(), "c".into()],
            host: "lamp".into(),
            addresses: Vec::new(),
            console: "127.0.0.1:7641".into(),
            version: "1".into(),
            doorway: "ask".into(),
            folders: Vec::new(),
            devices: vec![device],
            preflight: Preflight { looked_ms: None, worst: "ok".into(), checks: Vec::new() },
            settings: Vec::new(),
            last_ms: Some(5),
            changes: Vec::new(),
        };
        let page = page(&all);
        assert!(!page.contains("<script") && page.contains("&lt;script&gt;"));
        assert!(page.contains("<li>a</li>") && page.contains("<p>Nothing.</p>"));
        assert!(!page.contains("http-equiv") && !page.contains("src="), "it fetches nothing");
    }
}
