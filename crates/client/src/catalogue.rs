//! catalogue list, show.

use clap::Subcommand;
use mostra_api::{CatalogueObject, CataloguePage};

use crate::connection::{Connection, Failure};
use crate::output::{Output, bytes, count, duration, table};

#[derive(Debug, Subcommand)]
pub enum Verb {
    /// List what a container holds
    List {
        /// The container's object id
        #[arg(default_value = "0")]
        id: String,
        /// The first one to list, counted from 0
        #[arg(long, default_value_t = 0)]
        start: u32,
        /// How many to list at most
        #[arg(long, default_value_t = 200)]
        count: u32,
    },
    /// Show an object with its facts
    Show {
        /// Its object id
        id: String,
    },
}

pub async fn run(connection: &Connection, output: &Output, verb: Verb) -> Result<(), Failure> {
    match verb {
        Verb::List { id, start, count } => {
            let path = format!("/catalogue/{}/children?start={start}&count={count}", plain(&id)?);
            let page: CataloguePage = connection.get(&path).await?;
            output.print(&page, list)
        }
        Verb::Show { id } => {
            let object: CatalogueObject =
                connection.get(&format!("/catalogue/{}", plain(&id)?)).await?;
            output.print(&object, show)
        }
    }
}

/// Object ids are plain letters and digits; anything else is a slip.
fn plain(id: &str) -> Result<&str, Failure> {
    if id.chars().all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_') && !id.is_empty() {
        return Ok(id);
    }
    Err(Failure::new(format!("{id:?} is no object id"), "See: mostra catalogue list"))
}

fn list(page: &CataloguePage) -> String {
    let path: Vec<&str> = page.path.iter().skip(1).map(|o| o.title.as_str()).collect();
    let place = if path.is_empty() { "Root".to_owned() } else { path.join(" / ") };
    if page.total == 0 {
        return format!("{place}: empty");
    }
    let rows = page.objects.iter().map(|o| {
        let what = match (&o.items, &o.facts) {
            (Some(items), _) => count(u64::from(*items), "item"),
            (None, Some(f)) => {
                f.duration_ms.map(duration).or(f.resolution.clone()).unwrap_or_default()
            }
            (None, None) => String::new(),
        };
        let size = o.facts.as_ref().map(|f| bytes(f.size)).unwrap_or_default();
        vec![o.id.clone(), o.title.clone(), what, size]
    });
    let mut text = format!("{place}\n{}", table(&["id", "title", "length", "size"], rows));
    let shown = page.start as usize + page.objects.len();
    if shown < page.total as usize {
        text += &format!("\n{} of {}; go on with --start {shown}", page.objects.len(), page.total);
    }
    text
}

fn show(object: &CatalogueObject) -> String {
    let mut lines = vec![
        object.title.clone(),
        format!("  id          {}", object.id),
        format!("  in          {}", object.parent),
    ];
    if let (Some(children), Some(items)) = (object.children, object.items) {
        lines.push(format!(
            "  holds       {}, {} in all",
            count(children.into(), "object"),
            count(items.into(), "item")
        ));
    }
    if let Some(f) = &object.facts {
        let mut line = |name: &str, value: Option<String>| {
            lines.extend(value.map(|v| format!("  {name:<11} {v}")));
        };
        line("file", Some(f.file_name.clone()));
        line("type", Some(f.mime.clone()));
        line("size", Some(bytes(f.size)));
        line("length", f.duration_ms.map(duration));
        line("resolution", f.resolution.clone());
        line("bit rate", f.bit_rate.map(|b| format!("{} kbit/s", b / 1000)));
        line("picture", f.video_codec.clone());
        line("sound", f.audio_codec.clone());
        line("artist", f.artist.clone());
        line("album", f.album.clone());
        line("date", f.date.clone());
        line(
            "profile",
            Some(f.profile.clone().unwrap_or_else(|| "none (devices may still play it)".into())),
        );
    }
    lines.join("\n")
}
