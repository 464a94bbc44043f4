//! preset list, keep, remove.

use clap::Subcommand;
use mostra_api::{Folder, Preset, PresetGrant};
use reqwest::Method;

use crate::connection::{Connection, Failure};
use crate::device_words::kind_word;
use crate::output::{Done, Output, table};

#[derive(Debug, Subcommand)]
pub(crate) enum PresetVerb {
    /// List grants with a name
    List,
    /// Keep a grant under a name, in place of one of that name
    Keep {
        /// Its name
        name: String,
        /// The kinds: films, music, pictures
        #[arg(long, value_delimiter = ',', required = true)]
        kinds: Vec<String>,
        /// The folders, by number or label [default: all, also those to come]
        #[arg(long, value_delimiter = ',')]
        folders: Vec<String>,
    },
    /// Remove a preset; devices that have its grant keep it
    Remove {
        /// Its name
        name: String,
    },
}

pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    verb: PresetVerb,
) -> Result<(), Failure> {
    // As a part of a path a name may have blanks.
    let path = |name: &str| format!("/presets/{}", name.trim().replace(' ', "%20"));
    match verb {
        PresetVerb::List => {
            let presets: Vec<Preset> = connection.get("/presets").await?;
            let folders: Vec<Folder> = connection.get("/folders").await?;
            output.print(&presets, |presets| {
                let row = |preset: &Preset| {
                    let words: Vec<&str> =
                        preset.kinds.iter().map(|kind| kind_word(kind)).collect();
                    vec![preset.name.clone(), words.join(", "), in_folders(preset, &folders)]
                };
                table(&["preset", "kinds", "folders"], presets.iter().map(row))
            })
        }
        PresetVerb::Keep { name, kinds, folders: wanted } => {
            let mut folders = Vec::new();
            for folder in &wanted {
                folders.push(crate::folder::find(connection, folder).await?.id);
            }
            let body = PresetGrant { kinds, folders: (!wanted.is_empty()).then_some(folders) };
            let preset: Preset = connection.change(Method::PUT, &path(&name), Some(&body)).await?;
            output.print(&preset, |preset| {
                format!(
                    "Kept. Give it to devices: mostra device admit DEVICE… --preset {:?}",
                    preset.name
                )
            })
        }
        PresetVerb::Remove { name } => {
            connection.remove(&path(&name)).await?;
            output.print(&Done { done: true }, |_| format!("{name} is removed."))
        }
    }
}

fn in_folders(preset: &Preset, folders: &[Folder]) -> String {
    let Some(numbers) = &preset.folders else { return "all".into() };
    let labels = folders.iter().filter(|f| numbers.contains(&f.id)).map(|f| f.label.as_str());
    let labels: Vec<&str> = labels.collect();
    if labels.is_empty() { "none that is published".into() } else { labels.join(", ") }
}
