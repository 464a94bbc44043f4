//! What needs a person's attention.

use mostra_core::access::Standing;

use crate::devices::Devices;
use crate::preflight::PreflightChecks;

/// What needs a person's attention, in sentences: who waits, and what the preflight found.
pub fn attention(devices: &Devices, preflight: &PreflightChecks) -> Vec<String> {
    let mut list = Vec::new();
    let waiting = devices.book().iter().filter(|d| d.stands() == Some(Standing::Waiting)).count();
    match waiting {
        0 => {}
        1 => list.push("One device waits for your decision.".into()),
        more => list.push(format!("{more} devices wait for your decision.")),
    }
    let found = preflight.attention();
    list.extend(found.iter().map(|check| {
        let remedy = check.remedy.as_deref().unwrap_or_default();
        format!("{} {remedy}", check.measured)
    }));
    list
}
