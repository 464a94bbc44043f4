//! Having the house be as a file says. What fails is told, and the rest goes on.

use std::collections::BTreeSet;
use std::net::Ipv4Addr;

use mostra_app::devices::AboutDevice;
use mostra_core::Kinds;
use mostra_core::access::{Chosen, Grant};
use mostra_core::house_file::{DeviceSection, FolderSection, HouseFile, HouseSection, Word};
use mostra_core::ids::FolderId;
use mostra_core::preset::OwnPresets;
use mostra_core::station::Allowed;

use super::ConsoleParts;
use super::house::usable_mimes;
use super::problem::ApiFailure;

/// What was not done, and why.
type NotDone = Vec<(String, String)>;

/// Changes what is other in the file; gives what could not be changed.
///
/// # Errors
/// Those of the records.
pub(crate) async fn apply(
    parts: &ConsoleParts,
    now: &HouseFile,
    wanted: &HouseFile,
    who: &str,
) -> Result<NotDone, ApiFailure> {
    let mut failed = NotDone::new();
    house(parts, &now.house, &wanted.house, &mut failed).await?;
    for wanted in &wanted.folder {
        let before = now.folder.iter().find(|folder| folder.label == wanted.label);
        if before != Some(wanted)
            && let Err(why) = folder(parts, before, wanted).await
        {
            failed.push((format!("folder {}", wanted.label), why));
        }
    }
    presets(parts, wanted, &mut failed).await?;
    for wanted in &wanted.device {
        if !now.device.contains(wanted)
            && let Err(why) = device(parts, wanted, who).await
        {
            let called = wanted.name.clone().unwrap_or_default();
            failed.push((format!("device {called}"), why));
        }
    }
    for (name, value) in &wanted.settings {
        if now.settings.get(name) != Some(value)
            && let Err(error) = parts.config.set(name, Some(value))
        {
            failed.push((format!("setting {name}"), error.to_string()));
        }
    }
    Ok(failed)
}

async fn house(
    parts: &ConsoleParts,
    now: &HouseSection,
    wanted: &HouseSection,
    failed: &mut NotDone,
) -> Result<(), ApiFailure> {
    let ConsoleParts { devices, library, network, .. } = parts;
    if let Some(name) = wanted.name.as_ref().filter(|name| now.name.as_ref() != Some(name)) {
        network.rename(name.trim().to_owned()).await?;
    }
    if let Some(Word(doorway)) = wanted.doorway.filter(|doorway| now.doorway != Some(*doorway)) {
        devices.set_doorway(doorway).await?;
    }
    let mut options = library.catalogue().options().clone();
    if let Some(Word(titles)) = wanted.titles {
        options.titles = titles;
    }
    if let Some(Word(pictures)) = wanted.pictures {
        options.pictures = pictures;
    }
    if let Some(Word(locale)) = wanted.locale {
        options.locale = locale;
    }
    if let Some(mimes) = &wanted.mime {
        match usable_mimes(mimes.clone()) {
            Ok(mimes) => options.mimes = mimes,
            Err(_) => failed.push(("house mime".into(), "a MIME type does not work".into())),
        }
    }
    library.change_options(options).await?;
    if let Some(stations) = &wanted.stations {
        match Allowed::new(stations.clone()) {
            Ok(allowed) => {
                if library.allow_stations(allowed).await? {
                    library.rescan_all("stations");
                }
            }
            Err(_) => failed.push(("house stations".into(), "one of them is no host".into())),
        }
    }
    if let Some(url) = wanted.webhook.as_ref().filter(|url| now.webhook.as_ref() != Some(url)) {
        devices.set_webhook(Some(url)).await?;
    }
    Ok(())
}

async fn folder(
    parts: &ConsoleParts,
    before: Option<&FolderSection>,
    wanted: &FolderSection,
) -> Result<(), String> {
    let library = &parts.library;
    let kinds = Kinds::of(wanted.kinds.iter().copied());
    let id = match before {
        None => {
            let (path, label) = (wanted.path.clone(), Some(wanted.label.clone()));
            let published = library.publish(path, label, kinds, wanted.links.0).await;
            published.map_err(|error| error.to_string())?.serial
        }
        Some(before) => {
            let catalogue = library.catalogue();
            let known = catalogue.folders().iter().find(|folder| folder.label == wanted.label);
            let id = known.map(|folder| folder.serial).ok_or("it has just gone")?;
            if before.path != wanted.path {
                let moved = library.move_folder(id, wanted.path.clone(), false).await;
                moved.map_err(|error| error.to_string())?;
            }
            if Kinds::of(before.kinds.iter().copied()) != kinds {
                return Err("its kinds stay: withdraw the folder and publish it anew".into());
            }
            id
        }
    };
    if before.is_some_and(|before| before.links != wanted.links) {
        let ruled = library.set_link_rule(id, wanted.links.0).await;
        ruled.map_err(|error| error.to_string())?;
    }
    let left_out = before.map(|before| before.left_out.clone()).unwrap_or_default();
    if left_out != wanted.left_out {
        let excluded = library.exclude(id, &wanted.left_out).await;
        excluded.map_err(|error| error.to_string())?;
    }
    Ok(())
}

/// The folders of these labels; `None` for all.
fn folders(
    parts: &ConsoleParts,
    labels: Option<&Vec<String>>,
) -> Result<Option<BTreeSet<FolderId>>, String> {
    let Some(labels) = labels else { return Ok(None) };
    let catalogue = parts.library.catalogue();
    let of_label = |label: &String| {
        let found = catalogue.folders().iter().find(|folder| folder.label == *label);
        found.map(|folder| folder.serial).ok_or_else(|| format!("the folder {label} is not there"))
    };
    labels.iter().map(of_label).collect::<Result<_, _>>().map(Some)
}

async fn presets(
    parts: &ConsoleParts,
    wanted: &HouseFile,
    failed: &mut NotDone,
) -> Result<(), ApiFailure> {
    if wanted.preset.is_empty() {
        return Ok(());
    }
    let put_all = |presets: &mut OwnPresets| {
        for preset in &wanted.preset {
            let put = folders(parts, preset.folders.as_ref()).and_then(|folders| {
                let grant = Grant { kinds: Kinds::of(preset.kinds.iter().copied()), folders };
                presets.put(&preset.name, &grant).map_err(|error| error.to_string())
            });
            if let Err(why) = put {
                failed.push((format!("preset {}", preset.name), why));
            }
        }
        Ok::<(), std::convert::Infallible>(())
    };
    let Ok(_) = parts.devices.change_presets(put_all).await?;
    Ok(())
}

async fn device(parts: &ConsoleParts, wanted: &DeviceSection, who: &str) -> Result<(), String> {
    let devices = &parts.devices;
    let why = |error: mostra_store::StoreError| error.to_string();
    let hardware = wanted.hardware.map(|Word(hardware)| hardware);
    let address = wanted.address.unwrap_or(Ipv4Addr::UNSPECIFIED);
    let known = devices.book().find(address, hardware);
    let id = match known {
        Some(id) => id,
        None => {
            let added = devices.add(address, hardware, wanted.name.clone()).await.map_err(why)?;
            added.ok_or("there is no room for another device")?.id
        }
    };
    let before = devices.book().get(id).cloned().ok_or("it has just gone")?;
    let about = AboutDevice {
        kind: wanted.kind.map(|Word(kind)| Some(kind)),
        room: wanted.room.clone(),
        note: wanted.note.clone(),
    };
    devices.note_about(id, about).await.map_err(why)?;
    if let Some(name) = wanted.name.as_ref().filter(|name| before.name.as_ref() != Some(name)) {
        devices.rename(id, name.clone()).await.map_err(why)?;
    }
    if let Some(traits) = &wanted.traits
        && before.traits != *traits
    {
        devices.set_traits(id, traits.clone(), who).await.map_err(why)?;
    }
    if let Some(Word(standing)) = wanted.standing {
        let folders = folders(parts, wanted.folders.as_ref())?;
        let kinds = wanted.kinds.as_ref().map_or(Kinds::ALL, |k| Kinds::of(k.iter().copied()));
        let grant = Grant { kinds, folders };
        if !before.decided || (before.standing, &before.grant) != (standing, &grant) {
            let chosen = Chosen { kinds: Some(grant.kinds), folders: Some(grant.folders) };
            let note = (who, Some("by a house file"));
            devices.decide(id, standing, chosen, None, note).await.map_err(why)?;
        }
    }
    Ok(())
}
