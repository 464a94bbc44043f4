//! What is open to whom, and what of it is wider than it needs to be.

use std::time::Duration;

use mostra_protocol::Moment;

use crate::access::{Doorway, Standing};
use crate::device::Device;
use crate::kind::Kinds;
use crate::proof::Step;

/// How long an admitted device may stay away before that is pointed out.
const LONG_AWAY: Duration = Duration::from_secs(90 * 24 * 3600);

/// What is known of what is open.
#[derive(Debug, Clone)]
pub struct Openness<'a> {
    /// Now.
    pub now: Moment,
    /// The rule for new devices.
    pub doorway: Doorway,
    /// Whether the console can be reached from the house.
    pub console_open: bool,
    /// Subnets beside those of the interfaces from which devices may ask.
    pub also_from: &'a [String],
    /// The devices.
    pub devices: &'a [Device],
}

/// Something that is wider than it needs to be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wide {
    /// What is open, and why that may be more than is needed.
    pub what: String,
    /// The command that narrows it.
    pub command: String,
}

/// What is wider than it needs to be, what matters most first.
pub fn wide(open: &Openness<'_>) -> Vec<Wide> {
    let mut all = Vec::new();
    let mut add = |what: String, command: String| all.push(Wide { what, command });
    if open.doorway == Doorway::Open {
        add(
            "The doorway is open: whatever asks is let in, and sees every folder.".into(),
            "mostra house doorway ask".into(),
        );
    }
    let admitted = open.devices.iter().filter(|d| d.stands() == Some(Standing::Admitted));
    for device in admitted {
        let (label, id) = (device.label(), device.id);
        if device.by_doorway.is_some() {
            add(
                format!("{label} was let in by the doorway, and nobody looked at it since."),
                format!("mostra device refuse {id}"),
            );
        }
        if open.now.since(device.last_seen) > LONG_AWAY {
            add(
                format!("{label} was not seen for more than ninety days and is still let in."),
                format!("mostra device refuse {id}"),
            );
        }
        if !device.has_hardware() && !device.address().is_loopback() {
            add(
                format!(
                    "{label} is known by its address alone: whoever gets that address is let in as it."
                ),
                format!("mostra device refuse {id}"),
            );
        }
        let played = device.proof.ladder.proof(Step::Started).is_some();
        let only = device.proof.played();
        if played && device.grant.kinds == Kinds::ALL && only.iter().count() == 1 {
            let word = only.to_string();
            if device.first_seen + LONG_AWAY < open.now {
                let option = match &*word {
                    "video" => "films",
                    "picture" => "pictures",
                    other => other,
                };
                add(
                    format!("{label} may see every kind, and played {option} alone so far."),
                    format!("mostra device admit {id} --kinds {option}"),
                );
            }
        }
    }
    if open.console_open {
        add(
            "The console can be reached from the whole house; it needs a password there.".into(),
            "mostra console close".into(),
        );
    }
    if !open.also_from.is_empty() {
        add(
            format!(
                "Devices of other networks may ask as well ({}); there they are told apart by address alone.",
                open.also_from.join(", ")
            ),
            "mostra config set also_from \"\"".into(),
        );
    }
    all
}

/// What an address-based decision protects from, in honest words.
pub const HONEST: &str = "A decision on a device goes by its hardware address, where this host sees it, else by its \
address. That keeps out whoever does not take trouble, such as guests and their phones. It does not keep out somebody \
in the same network who copies the address of a device that is let in: media are sent in the clear, as the standards \
want it, and whoever can read the network can read them.";

#[cfg(test)]
mod tests {
    use super::*;
    use crate::access::Grant;
    use crate::device::{DeviceBook, Hardware};
    use std::net::Ipv4Addr;

    #[test]
    fn a_narrow_house_has_nothing_to_point_out_and_each_width_has_its_command() {
        let (now, hardware) = (Moment::from_secs(1_000), Some(Hardware([0, 0, 0x5e, 0, 0x53, 1])));
        let mut book = DeviceBook::default();
        let address = |n| Ipv4Addr::new(192, 0, 2, n);
        let tv = book.meet(now, address(1), hardware).unwrap().id;
        book.decide(tv, Standing::Admitted, Grant::everything());
        let waiting = book.meet(now, address(2), None).unwrap().id;
        book.ask(now, waiting, Doorway::Ask);
        let commands = |book: &DeviceBook, now, doorway, console_open, also_from: &[String]| {
            let devices: Vec<Device> = book.iter().cloned().collect();
            let open = Openness { now, doorway, console_open, also_from, devices: &devices };
            wide(&open).into_iter().map(|wide| wide.command).collect::<Vec<_>>()
        };
        assert_eq!(commands(&book, now, Doorway::Ask, false, &[]), Vec::<String>::new());
        let guest = book.meet(now, address(3), None).unwrap().id;
        book.ask(now, guest, Doorway::Open);
        let refuse = format!("mostra device refuse {guest}");
        assert_eq!(
            commands(&book, now, Doorway::Open, true, &["10.1.0.0/24".into()]),
            [
                "mostra house doorway ask",
                &refuse,
                &refuse,
                "mostra console close",
                "mostra config set also_from \"\""
            ]
        );
        let later = now + LONG_AWAY + Duration::from_secs(1);
        let all = commands(&book, later, Doorway::Ask, false, &[]);
        assert!(all.contains(&format!("mostra device refuse {tv}")), "{all:?}");
    }
}
