//! status, login, house, config.

use std::io::{IsTerminal, Read};
use std::time::Duration;

use clap::Subcommand;
use mostra_api::{
    Account, House, HouseChange, Login, NewAccount, OffProof, Session, Setup, Status, SwitchOff,
    Webhook, WebhookChange,
};
use reqwest::Method;

use crate::connection::{Connection, Failure};
use crate::output::{Done, Output, count, prompt, say, sure, table, time};

/// How often, and how many times, it is looked whether a house that was switched off is silent.
const PROOF_LOOK: Duration = Duration::from_millis(250);
const PROOF_LOOKS: usize = 28;

#[derive(Debug, Subcommand)]
pub(crate) enum HouseVerb {
    /// Show the house's name, or change it
    Name {
        /// The new name, as televisions will show it
        name: Option<String>,
    },
    /// Switch the house off: devices do not find it and nothing plays, and everything is kept
    Off {
        /// Switch it on again by itself at this day, or day and time: 2027-01-07, "2027-01-07 18:00"
        #[arg(long, value_name = "DAY", value_parser = day)]
        until: Option<jiff::civil::DateTime>,
    },
    /// Switch the house on again
    On,
    /// Start the service again, so that changed settings take effect; what plays breaks off
    Restart {
        /// Do not ask, though something plays
        #[arg(long)]
        yes: bool,
    },
    /// Write everything that was decided as one TOML document
    Export {
        /// Where to; left out: the standard output
        file: Option<std::path::PathBuf>,
    },
    /// Have the house be as such a document says; what it does not name stays
    Apply {
        /// The document
        file: std::path::PathBuf,
        /// Only show what would change
        #[arg(long)]
        plan: bool,
    },
    /// Announce the house to players now, for those that do not search
    Announce,
    /// Reset how players know this server: the last resort for those that keep old listings
    Renew {
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
    /// Show what happens to devices that ask for the first time, or change it
    Doorway {
        /// ask: they wait for your decision; open: they are let in at once; closed: they are turned away
        #[arg(value_parser = ["ask", "open", "closed"])]
        doorway: Option<String>,
    },
    /// Show where it is told that a device waits, or change it
    Webhook {
        /// An address on the local network, as http://192.168.1.5:8000/path; off: nowhere
        url: Option<String>,
    },
    /// Show where titles come from, or change it
    Titles {
        /// embedded: from inside the files, where they have one; file-names: from their names
        #[arg(value_parser = ["embedded", "file-names"])]
        from: Option<String>,
    },
    /// Show how pictures are sorted, or change it
    Pictures {
        /// date: by the date taken; title: by title
        #[arg(value_parser = ["date", "title"])]
        by: Option<String>,
    },
    /// Show by whose alphabet names are sorted, or change it
    Locale {
        /// A language, such as sv; en for English and others (accents ignored)
        language: Option<String>,
    },
    /// Show the MIME types that replace the usual ones, or set one for an extension
    Mime {
        /// A file-name extension, such as mkv
        extension: Option<String>,
        /// The MIME type that devices are told [default: the usual one again]
        mime: Option<String>,
    },
    /// Show the hosts from which stations of playlists are passed on, or change them
    Stations {
        /// Allow a host: radio.example, *.radio.example, 192.0.2.7:8000
        #[arg(long, value_name = "HOST")]
        allow: Vec<String>,
        /// Allow a host no more
        #[arg(long, value_name = "HOST")]
        forbid: Vec<String>,
    },
}

pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    verb: HouseVerb,
) -> Result<(), Failure> {
    match verb {
        HouseVerb::Name { name: None } => {
            let house: House = connection.get("/house").await?;
            output.print(&house, |h| h.name.clone())
        }
        HouseVerb::Name { name } => {
            let wish = HouseChange { name, ..HouseChange::default() };
            let house: House = connection.change(Method::PATCH, "/house", Some(&wish)).await?;
            output.print(&house, |h| format!("The house is now called {}.", h.name))
        }
        HouseVerb::Off { until } => {
            let until_ms = until.map(moment_ms).transpose()?;
            let mut house: House =
                connection.change(Method::PUT, "/house/off", Some(&SwitchOff { until_ms })).await?;
            // That it is silent shows some seconds later.
            for _ in 0..PROOF_LOOKS {
                if house.off.is_none_or(|off| off.proof.is_some()) {
                    break;
                }
                tokio::time::sleep(PROOF_LOOK).await;
                house = connection.get("/house").await?;
            }
            output.print(&house, off_words)
        }
        HouseVerb::On => {
            let house: House = connection.change(Method::DELETE, "/house/off", None::<&()>).await?;
            output.print(&house, |h| {
                format!("{} is on. Devices find it again within seconds.", h.name)
            })
        }
        HouseVerb::Export { file } => crate::house_file::export(connection, output, file).await,
        HouseVerb::Apply { file, plan } => {
            crate::house_file::apply(connection, output, &file, plan).await
        }
        HouseVerb::Announce => {
            connection.act("/house/announcement").await?;
            output.print(&Done { done: true }, |_| {
                "The house was announced to players on all interfaces.".into()
            })
        }
        HouseVerb::Restart { yes } => crate::config::restart(connection, output, yes).await,
        HouseVerb::Renew { yes } => {
            let costs =
                "Players forget this server with their places and favourites and find a new one.";
            if !yes && !sure(&format!("{costs} Go on?")) {
                return Err(Failure::new(
                    "nothing was changed",
                    "Say --yes to go on without being asked.",
                ));
            }
            connection.act("/house/renewal").await?;
            output.print(&Done { done: true }, |_| {
                "Players see a new server from now on. Devices keep their standing here.".into()
            })
        }
        HouseVerb::Doorway { doorway: None } => {
            let house: House = connection.get("/house").await?;
            output.print(&house, |h| h.doorway.clone())
        }
        HouseVerb::Doorway { doorway } => {
            let wish = HouseChange { doorway, ..HouseChange::default() };
            let house: House = connection.change(Method::PATCH, "/house", Some(&wish)).await?;
            output.print(&house, |h| match h.doorway.as_str() {
                "open" => "New devices are let in at once. Those that wait already still wait for \
                           your decision: mostra device list"
                    .to_owned(),
                "closed" => {
                    "New devices are turned away. Those let in stay so, and those that wait \
                             still wait: mostra device list"
                        .to_owned()
                }
                _ => "New devices wait for your decision. Those let in stay so.".to_owned(),
            })
        }
        HouseVerb::Webhook { url } => {
            let webhook: Webhook = match url {
                None => connection.get("/webhook").await?,
                Some(url) => {
                    let wish = WebhookChange { url: Some(url).filter(|url| url != "off") };
                    connection.change(Method::PUT, "/webhook", Some(&wish)).await?
                }
            };
            output.print(&webhook, webhook_words)
        }
        HouseVerb::Titles { from: None } => {
            let house: House = connection.get("/house").await?;
            output.print(&house, |h| h.titles.clone())
        }
        HouseVerb::Titles { from: titles } => {
            let wish = HouseChange { titles, ..HouseChange::default() };
            let house: House = connection.change(Method::PATCH, "/house", Some(&wish)).await?;
            output.print(&house, |h| match h.titles.as_str() {
                "file-names" => "Titles come from the files' names.".into(),
                _ => "Titles come from inside the files, where they have one.".into(),
            })
        }
        HouseVerb::Pictures { by: None } => {
            let house: House = connection.get("/house").await?;
            output.print(&house, |h| h.picture_order.clone())
        }
        HouseVerb::Pictures { by: picture_order } => {
            let wish = HouseChange { picture_order, ..HouseChange::default() };
            let house: House = connection.change(Method::PATCH, "/house", Some(&wish)).await?;
            output.print(&house, |h| format!("Pictures are sorted by {}.", h.picture_order))
        }
        HouseVerb::Locale { language: None } => {
            let house: House = connection.get("/house").await?;
            output
                .print(&house, |h| format!("{}\nTo choose from: {}", h.locale, h.locales.join(" ")))
        }
        HouseVerb::Locale { language: locale } => {
            let wish = HouseChange { locale, ..HouseChange::default() };
            let house: House = connection.change(Method::PATCH, "/house", Some(&wish)).await?;
            output.print(&house, |h| format!("Names are sorted by the alphabet of {}.", h.locale))
        }
        HouseVerb::Mime { extension, mime } => {
            let house: House = connection.get("/house").await?;
            let house = match extension {
                None => house,
                Some(extension) => {
                    let extension = extension.trim_start_matches('.').to_lowercase();
                    let mut mimes = house.mimes;
                    match mime {
                        Some(mime) => mimes.insert(extension, mime),
                        None => mimes.remove(&extension),
                    };
                    let wish = HouseChange { mimes: Some(mimes), ..HouseChange::default() };
                    connection.change(Method::PATCH, "/house", Some(&wish)).await?
                }
            };
            output.print(&house, |h| {
                if h.mimes.is_empty() {
                    return "Every file is offered with its usual MIME type.".into();
                }
                let rows = h.mimes.iter().map(|(e, m)| vec![e.clone(), m.clone()]);
                table(&["extension", "MIME type"], rows)
            })
        }
        HouseVerb::Stations { allow, forbid } => {
            let mut house: House = connection.get("/house").await?;
            if !allow.is_empty() || !forbid.is_empty() {
                let mut stations = house.stations;
                stations.retain(|host| !forbid.iter().any(|f| f.eq_ignore_ascii_case(host)));
                stations.extend(allow);
                let wish = HouseChange { stations: Some(stations), ..HouseChange::default() };
                house = connection.change(Method::PATCH, "/house", Some(&wish)).await?;
            }
            output.print(&house, |h| match h.stations.is_empty() {
                true => "No host is allowed: stations of playlists are left out.".into(),
                false => format!("Stations are passed on from:\n  {}", h.stations.join("\n  ")),
            })
        }
    }
}

/// A day, or a day and a time, of this host's clock.
fn day(text: &str) -> Result<jiff::civil::DateTime, String> {
    text.trim().parse().map_err(|_| {
        "that is no day; write it as 2027-01-07, or with a time as \"2027-01-07 18:00\"".into()
    })
}

/// Unix milliseconds of a day and time here.
fn moment_ms(at: jiff::civil::DateTime) -> Result<u64, Failure> {
    let zoned = at.to_zoned(jiff::tz::TimeZone::system());
    let ms = zoned.ok().and_then(|zoned| u64::try_from(zoned.timestamp().as_millisecond()).ok());
    ms.ok_or_else(|| Failure::new("there is no such moment here", "Give one that is to come."))
}

/// That the house is off, until when, and how it is on again.
fn off_words(house: &House) -> String {
    let until = house.off.and_then(|off| off.until_ms);
    let until = until.map(|until| format!(" until {}", time(until))).unwrap_or_default();
    let proof = house.off.and_then(|off| off.proof).map(proof_words).unwrap_or_default();
    format!(
        "{} is OFF{until}. Devices do not find it and nothing plays. All decisions, folders and proof are kept.\n\
         {proof}Switch it on again: mostra house on",
        house.name
    )
}

fn proof_words(proof: OffProof) -> String {
    let interfaces = count(proof.searched.into(), "interface");
    let heard = match (proof.answered, proof.reached) {
        (0, 0) => "nothing answers, and its port is closed".to_owned(),
        (answered, reached) => format!("{answered} still answer, {reached} still take connections"),
    };
    let mark = if proof.silent { "✓" } else { "✗" };
    let byebyes = count(proof.byebyes.into(), "time");
    format!("{mark} Byebye was said {byebyes}. Searched for on {interfaces}: {heard}.\n")
}

fn webhook_words(webhook: &Webhook) -> String {
    let Some(url) = &webhook.url else {
        return "Arrivals are told nowhere. For example: mostra house webhook http://192.168.1.5:8000/mostra"
            .into();
    };
    let mut lines = vec![format!("Arrivals are told to {url}, as JSON, three times at most.")];
    if let Some(last) = &webhook.last {
        let how = match &last.problem {
            Some(problem) => format!("failed: {problem}"),
            None => "was taken".into(),
        };
        lines.push(format!("The last one, {}, {how}.", time(last.at_ms)));
    }
    lines.join("\n")
}

fn doorway_words(doorway: &str) -> &'static str {
    match doorway {
        "open" => "let in at once (doorway open)",
        "closed" => "turned away (doorway closed)",
        _ => "wait for your decision (doorway ask)",
    }
}

pub(crate) async fn status(connection: &Connection, output: &Output) -> Result<(), Failure> {
    let status: Status = connection.get("/status").await?;
    output.print(&status, |s| {
        let mut lines = vec![
            match s.house.off {
                None => format!("{} is on.", s.house.name),
                Some(_) => off_words(&s.house),
            },
            format!(
                "  catalogue   {} from {}",
                count(s.items, "item"),
                count(s.folders.into(), "folder")
            ),
            format!(
                "  devices     {} admitted, {} waiting, {} refused",
                s.admitted, s.waiting, s.refused
            ),
            format!("  streams     {}", s.streams),
            format!("  new devices {}", doorway_words(&s.house.doorway)),
        ];
        for interface in &s.interfaces {
            lines.push(format!("  reached by  {} on {}", interface.address, interface.name));
        }
        lines.push(format!("  since       {}, version {}", time(s.started_ms), s.version));
        if !s.loaded {
            lines.push("The catalogue is still loading.".into());
        }
        lines.extend(s.attention.iter().map(|a| format!("! {a}")));
        lines.join("\n")
    })
}

pub(crate) async fn login(
    connection: &Connection,
    output: &Output,
    name: &str,
    password_file: Option<&str>,
    code: Option<String>,
) -> Result<(), Failure> {
    let setup: Setup = connection.get("/setup").await?;
    if connection.is_on_host() && !setup.needed {
        let session: Session = connection.get("/session").await?;
        return output.print(&Account { name: session.account }, |a| {
            format!("You need not sign in here: this house knows you as {}.", a.name)
        });
    }
    if setup.needed && setup.code_needed && code.is_none() {
        return Err(Failure::new(
            "this house has no account yet",
            "Make the first on its host: mostra login. Or say --code with what `mostrad account first` prints there.",
        ));
    }
    let first = setup.needed;
    let password = password(password_file, first)?;
    if first {
        let new = NewAccount { name: Some(name.into()), password: password.clone(), code };
        let made: Account = connection.change(Method::POST, "/accounts", Some(&new)).await?;
        if connection.is_on_host() {
            return output.print(&made, |a| {
                format!(
                    "The account {} is made: sign in with it in the browser. Here you need not.",
                    a.name
                )
            });
        }
    }
    let login = Login { name: Some(name.into()), password, token: true };
    let session: Session = connection.change(Method::POST, "/session", Some(&login)).await?;
    let token = session.token.ok_or_else(|| Failure::new("the service gave no token", ""))?;
    let file = connection.keep(&token)?;
    output.print(&Account { name: session.account }, |a| {
        format!("Signed in as {}. The token is in {}.", a.name, file.display())
    })
}

/// A password from a file, or asked for; `first`: chosen, and so asked for twice.
pub(crate) fn password(file: Option<&str>, first: bool) -> Result<String, Failure> {
    let unreadable =
        |e: std::io::Error| Failure::new(format!("the password cannot be read: {e}"), "");
    let read = match file {
        Some("-") => {
            let mut text = String::new();
            std::io::stdin().read_to_string(&mut text).map_err(unreadable)?;
            text
        }
        Some(file) => std::fs::read_to_string(file).map_err(unreadable)?,
        None if std::io::stdin().is_terminal() => {
            if first {
                say("Choose a password, at least 8 characters.");
            }
            let once = hidden("Password: ")?;
            if first && hidden("Once more: ")? != once {
                return Err(Failure::new("the two passwords differ", "Try again."));
            }
            once
        }
        None => {
            return Err(Failure::new(
                "there is no terminal to ask for the password",
                "Give --password-file.",
            ));
        }
    };
    Ok(read.trim_end_matches(['\n', '\r']).to_owned())
}

/// Reads a line without showing it.
fn hidden(question: &str) -> Result<String, Failure> {
    prompt(question);
    let quiet = |on: bool| {
        let word = if on { "-echo" } else { "echo" };
        let _ = std::process::Command::new("stty").arg(word).status();
    };
    quiet(true);
    let mut line = String::new();
    let read = std::io::stdin().read_line(&mut line);
    quiet(false);
    say("");
    read.map_err(|e| Failure::new(format!("the password cannot be read: {e}"), ""))?;
    Ok(line.trim_end_matches(['\n', '\r']).to_owned())
}

pub(crate) async fn logout(connection: &Connection, output: &Output) -> Result<(), Failure> {
    let ended = connection.remove("/session").await;
    connection.drop_token();
    ended?;
    output.print(&Done { done: true }, |_| "Signed out.".into())
}
