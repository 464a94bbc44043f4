//! Writing the house as a file, with what each part means.

use std::fmt::Write as _;

use super::{DeviceSection, HouseFile, HouseSection, Word, Worded};
use crate::kind::Kind;
use crate::link_rule::LinkRule;

/// A text as TOML has it.
fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

fn list<'a>(texts: impl IntoIterator<Item = &'a str>) -> String {
    let quoted: Vec<String> = texts.into_iter().map(quoted).collect();
    format!("[{}]", quoted.join(", "))
}

fn kinds(kinds: &[Kind]) -> String {
    list(kinds.iter().map(|kind| kind.word()))
}

fn word<T: Worded>(out: &mut String, name: &str, value: Option<&Word<T>>) {
    if let Some(Word(value)) = value {
        let _ = writeln!(out, "{name} = {}", quoted(&value.to_word()));
    }
}

fn text(out: &mut String, name: &str, value: Option<&String>) {
    if let Some(value) = value {
        let _ = writeln!(out, "{name} = {}", quoted(value));
    }
}

impl HouseFile {
    /// Writes it, with comments.
    pub fn write(&self) -> String {
        let mut out = String::from(
            "# This house as a person decided it. `mostra house apply FILE --plan` shows what would\n\
             # change; without --plan it is changed. What this file does not name stays as it is.\n",
        );
        house(&mut out, &self.house);
        if !self.folder.is_empty() {
            out.push_str("\n# Folders whose media are published, by their label.\n");
        }
        for folder in &self.folder {
            let _ = writeln!(out, "\n[[folder]]\nlabel = {}", quoted(&folder.label));
            let _ = writeln!(out, "path = {}", quoted(&folder.path));
            let _ = writeln!(out, "kinds = {}", kinds(&folder.kinds));
            if !folder.left_out.is_empty() {
                let left_out = list(folder.left_out.iter().map(String::as_str));
                let _ = writeln!(out, "left_out = {left_out}");
            }
            if folder.links.0 != LinkRule::default() {
                let _ = writeln!(out, "links = {}", quoted(folder.links.0.word()));
            }
        }
        if !self.preset.is_empty() {
            out.push_str("\n# Grants with a name, to be given to devices.\n");
        }
        for preset in &self.preset {
            let _ = writeln!(out, "\n[[preset]]\nname = {}", quoted(&preset.name));
            let _ = writeln!(out, "kinds = {}", kinds(&preset.kinds));
            if let Some(folders) = &preset.folders {
                let _ = writeln!(out, "folders = {}", list(folders.iter().map(String::as_str)));
            }
        }
        if !self.device.is_empty() {
            out.push_str(
                "\n# Devices, each known by its hardware address; by its address where none is known.\n\
                 # standing: admitted or refused. Without kinds or folders: all of them.\n",
            );
        }
        for one in &self.device {
            device(&mut out, one);
        }
        if !self.settings.is_empty() {
            out.push_str(
                "\n# Settings of the service that were changed in the console.\n[settings]\n",
            );
            for (name, value) in &self.settings {
                let _ = writeln!(out, "{name} = {}", quoted(value));
            }
        }
        out
    }
}

fn house(out: &mut String, house: &HouseSection) {
    out.push_str("\n[house]\n");
    text(out, "name", house.name.as_ref());
    if house.doorway.is_some() {
        out.push_str(
            "# Devices that ask for the first time: open lets them in, ask has them wait,\n",
        );
        out.push_str("# closed turns them away.\n");
        word(out, "doorway", house.doorway.as_ref());
    }
    if house.titles.is_some() {
        out.push_str(
            "# Titles come from inside the files (embedded) or are their names (file-names).\n",
        );
        word(out, "titles", house.titles.as_ref());
    }
    if house.pictures.is_some() {
        out.push_str("# Pictures stand by the date taken (date) or by title.\n");
        word(out, "pictures", house.pictures.as_ref());
    }
    if house.locale.is_some() {
        out.push_str("# The language by whose alphabet names stand.\n");
        word(out, "locale", house.locale.as_ref());
    }
    if let Some(stations) = &house.stations {
        out.push_str("# Hosts of stations that may be passed on.\n");
        let _ = writeln!(out, "stations = {}", list(stations.iter().map(String::as_str)));
    }
    if house.webhook.is_some() {
        out.push_str("# Who is told of devices that wait.\n");
        text(out, "webhook", house.webhook.as_ref());
    }
    if let Some(mime) = house.mime.as_ref().filter(|mime| !mime.is_empty()) {
        out.push_str(
            "\n# MIME types by file-name extension that replace the usual ones.\n[house.mime]\n",
        );
        for (extension, mime) in mime {
            let _ = writeln!(out, "{} = {}", quoted(extension), quoted(mime));
        }
    }
}

fn device(out: &mut String, device: &DeviceSection) {
    out.push_str("\n[[device]]\n");
    word(out, "hardware", device.hardware.as_ref());
    if let Some(address) = device.address {
        let _ = writeln!(out, "address = {}", quoted(&address.to_string()));
    }
    text(out, "name", device.name.as_ref());
    word(out, "kind", device.kind.as_ref());
    text(out, "room", device.room.as_ref());
    text(out, "note", device.note.as_ref());
    word(out, "standing", device.standing.as_ref());
    if let Some(of) = &device.kinds {
        let _ = writeln!(out, "kinds = {}", kinds(of));
    }
    if let Some(folders) = &device.folders {
        let _ = writeln!(out, "folders = {}", list(folders.iter().map(String::as_str)));
    }
    if let Some(traits) = &device.traits
        && let Ok(table) = toml::Table::try_from(traits)
    {
        let _ = writeln!(out, "traits = {}", toml::Value::Table(table));
    }
}
