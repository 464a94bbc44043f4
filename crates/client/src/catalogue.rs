//! catalogue list, show, search.

use clap::Subcommand;
use mostra_api::{CatalogueObject, CataloguePage};

use crate::connection::{Connection, Failure};
use crate::output::{Output, bytes, count, duration, table};
use crate::seen_by;

#[derive(Debug, clap::Args)]
pub(crate) struct PageArguments {
    /// The first one to list, counted from 0
    #[arg(long, default_value_t = 0)]
    start: u32,
    /// How many to list at most
    #[arg(long, default_value_t = 200)]
    count: u32,
    /// The order, such as +dc:title or -dc:date,+dc:title [default: as on the televisions]
    #[arg(long, value_name = "LIST", allow_hyphen_values = true)]
    sort: Option<String>,
    /// Only what a grant of these kinds would show
    #[arg(long, value_name = "LIST")]
    kinds: Option<String>,
    /// Only what a grant of these folders would show, by their numbers
    #[arg(long, value_name = "LIST")]
    folders: Option<String>,
}

impl PageArguments {
    fn query(&self) -> Vec<(&'static str, String)> {
        let mut query = vec![("start", self.start.to_string()), ("count", self.count.to_string())];
        for (name, value) in
            [("sort", &self.sort), ("kinds", &self.kinds), ("folders", &self.folders)]
        {
            query.extend(value.clone().map(|v| (name, v)));
        }
        query
    }
}

/// Whose view of the catalogue is wanted.
#[derive(Debug, clap::Args)]
pub(crate) struct Viewer {
    /// As this device gets it: its number, name, address or hardware address
    #[arg(long = "as", value_name = "DEVICE")]
    device: Option<String>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum CatalogueVerb {
    /// List what a container holds
    List {
        /// The container's object id
        #[arg(default_value = "0")]
        id: String,
        #[command(flatten)]
        window: PageArguments,
        #[command(flatten)]
        viewer: Viewer,
    },
    /// Show an object with its facts
    Show {
        /// Its object id
        id: String,
        #[command(flatten)]
        viewer: Viewer,
    },
    /// Find objects by words of their titles, artists, albums and file names, or by date
    Search {
        /// Words, all of which must be found; a date as 2024, "March 2024" or 2024-03-15
        #[arg(required_unless_present = "criteria")]
        words: Vec<String>,
        /// Search as players do: dc:title contains "fog" and upnp:class derivedfrom "object.item"
        #[arg(long, value_name = "TEXT", conflicts_with = "words")]
        criteria: Option<String>,
        /// Only below this container
        #[arg(long = "in", value_name = "ID", default_value = "0")]
        container: String,
        #[command(flatten)]
        window: PageArguments,
        #[command(flatten)]
        viewer: Viewer,
    },
}

pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    verb: CatalogueVerb,
) -> Result<(), Failure> {
    match verb {
        CatalogueVerb::List { id, window, viewer: Viewer { device: Some(device) } } => {
            seen_by::list(connection, output, &device, plain(&id)?, &window.query()).await
        }
        CatalogueVerb::Show { id, viewer: Viewer { device: Some(device) } } => {
            let itself = [("itself", "true".to_owned())];
            seen_by::list(connection, output, &device, plain(&id)?, &itself).await
        }
        CatalogueVerb::Search { criteria, container, window, viewer, .. }
            if viewer.device.is_some() =>
        {
            let criteria = criteria.ok_or_else(|| {
                Failure::new(
                    "devices do not search by words",
                    "Say --criteria, as they do: dc:title contains \"fog\"",
                )
            })?;
            let mut query = window.query();
            query.push(("criteria", criteria));
            let device = viewer.device.unwrap_or_default();
            seen_by::list(connection, output, &device, plain(&container)?, &query).await
        }
        CatalogueVerb::List { id, window, .. } => {
            let path = format!("/catalogue/{}/children", plain(&id)?);
            let page: CataloguePage = connection.ask(&path, &window.query()).await?;
            output.print(&page, list)
        }
        CatalogueVerb::Show { id, .. } => {
            let object: CatalogueObject =
                connection.get(&format!("/catalogue/{}", plain(&id)?)).await?;
            output.print(&object, show)
        }
        CatalogueVerb::Search { words, criteria, container, window, .. } => {
            let path = format!("/catalogue/{}/search", plain(&container)?);
            let mut query = window.query();
            query.push(match criteria {
                Some(criteria) => ("criteria", criteria),
                None => ("q", words.join(" ")),
            });
            let page: CataloguePage = connection.ask(&path, &query).await?;
            output.print(&page, |page| match page.total {
                0 => "Nothing is found. Fewer words find more.".into(),
                _ if page.groups.is_empty() => list(page),
                _ => found(page),
            })
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
    let rows = page.objects.iter().map(|object| row(object).to_vec());
    format!("{place}\n{}{}", table(&["id", "title", "length", "size"], rows), rest(page))
}

/// An object's id, title, length and size.
fn row(object: &CatalogueObject) -> [String; 4] {
    let what = match (&object.items, &object.facts) {
        (Some(items), _) => count(u64::from(*items), "item"),
        (None, Some(f)) => f.duration_ms.map(duration).or(f.resolution.clone()).unwrap_or_default(),
        (None, None) => String::new(),
    };
    let size = object.facts.as_ref().map(|f| match f.station {
        Some(_) => "station".into(),
        None => bytes(f.size),
    });
    [object.id.clone(), object.title.clone(), what, size.unwrap_or_default()]
}

/// What a page does not show.
fn rest(page: &CataloguePage) -> String {
    let mut text = String::new();
    if page.incomplete {
        text += "\nA folder is still being scanned; more may come.";
    }
    let shown = page.start as usize + page.objects.len();
    if shown < page.total as usize {
        text += &format!("\n{} of {}; go on with --start {shown}", page.objects.len(), page.total);
    }
    text
}

/// What was found, with a word for its group in each row.
fn found(page: &CataloguePage) -> String {
    let groups = page.groups.iter().flat_map(|part| {
        let name = match part.group.as_str() {
            "artists" => "artist",
            "albums" => "album",
            "lists" => "list",
            "folders" => "folder",
            "films" => "film",
            "music" => "track",
            "pictures" => "picture",
            other => other,
        };
        std::iter::repeat_n(name, part.count as usize)
    });
    let rows = groups.skip(page.start as usize).zip(&page.objects).map(|(group, object)| {
        let [id, title, what, size] = row(object);
        let facts = object.facts.as_ref();
        let by = facts.and_then(|f| f.artists.first().cloned()).or(object.artist.clone());
        let by = by.or_else(|| object.within.as_ref().map(|around| format!("in {around}")));
        vec![group.to_owned(), id, title, by.unwrap_or_default(), what, size]
    });
    let head = ["", "id", "title", "by or in", "length", "size"];
    format!("{} found\n{}{}", count(page.total.into(), "thing"), table(&head, rows), rest(page))
}

fn show(object: &CatalogueObject) -> String {
    let mut lines = vec![
        object.title.clone(),
        format!("  id          {}", object.id),
        format!("  in          {}", object.parent),
        format!("  class       {}", object.class),
    ];
    if let Some(original) = &object.original {
        lines.push(format!("  original    {original}"));
    }
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
        let is_file = f.station.is_none();
        line("station", f.station.clone());
        line("file", is_file.then(|| f.file_name.clone()));
        line("type", Some(f.mime.clone()));
        line("size", is_file.then(|| bytes(f.size)));
        line("length", f.duration_ms.map(duration));
        line("resolution", f.resolution.clone());
        line("bit rate", f.bit_rate.map(|b| format!("{} kbit/s", b / 1000)));
        line("picture", f.video_codec.clone());
        for track in &f.audio {
            let channels = track.channels.map(|c| count(c.into(), "channel"));
            let rate = track.sample_rate.map(|r| format!("{} Hz", r));
            let bits = track.bits.map(|b| format!("{b} bits"));
            let parts = [Some(track.codec.clone()), channels, rate, bits, track.language.clone()];
            line("sound", Some(parts.into_iter().flatten().collect::<Vec<_>>().join(", ")));
        }
        for track in &f.subtitles {
            let parts =
                [Some(track.codec.clone()), track.language.clone(), track.file_name.clone()];
            line("subtitles", Some(parts.into_iter().flatten().collect::<Vec<_>>().join(", ")));
        }
        line("frames", f.frame_rate.as_ref().map(|r| format!("{r} a second")));
        let joined = |list: &[String]| (!list.is_empty()).then(|| list.join("; "));
        line("artist", joined(&f.artists));
        line("album", f.album.clone());
        line("by", f.album_artist.clone());
        let number = |what: &str, n: Option<u16>| n.map(|n| format!("{what} {n}"));
        let place: Vec<String> =
            [number("disc", f.disc), number("track", f.track)].into_iter().flatten().collect();
        line("place", Some(place.join(", ")).filter(|p| !p.is_empty()));
        line("genre", joined(&f.genres));
        line("composer", joined(&f.composers));
        line("episode", f.episode.clone());
        line("camera", f.camera.clone());
        line("date", f.date.clone());
        line(
            "profile",
            Some(f.profile.clone().unwrap_or_else(|| {
                "no DLNA profile matches; most players should still play it".into()
            })),
        );
    }
    lines.join("\n")
}
