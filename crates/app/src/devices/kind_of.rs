//! What sort of device something is, by what it says and what was found at its address.

use mostra_core::device::{Device, DeviceKind, KindHints, propose_kind};
use mostra_core::found::Described;

/// What sort of device it seems to be, and why in words. `here` is what the things at its address say of
/// themselves.
pub fn seems(device: &Device, here: &[Described]) -> Option<(DeviceKind, String)> {
    let said = here.iter().flat_map(|said| [said.name.as_str(), said.model.as_str()]);
    let mut texts: Vec<&str> = said.filter(|text| !text.is_empty()).collect();
    texts.extend(device.described_name.as_deref());
    texts.extend(device.user_agent.as_deref());
    let abilities = here.iter().find_map(|said| said.abilities.as_ref());
    let formats = abilities.map(|can| can.formats.as_slice()).unwrap_or_default();
    propose_kind(&KindHints { texts, renderer: abilities.is_some(), formats })
}

/// What sort of device it is: as a person confirmed, else as it seems.
pub fn kind_of(device: &Device, here: &[Described]) -> Option<DeviceKind> {
    device.kind.or_else(|| seems(device, here).map(|(kind, _)| kind))
}
