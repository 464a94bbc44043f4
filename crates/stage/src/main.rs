//! mostra-stage: stand-in devices with the habits of real ones, each from a persona file.
//!
//! A stand-in talks to media servers only through the standard protocols. It judges what it
//! received by really decoding it, shows its screen as text, and can be driven over a small
//! local JSON control.

mod announce;
mod control;
mod controlling;
mod finder;
mod http;
mod judge;
mod learn;
mod menus;
mod persona;
mod recording;
mod renderer;
mod replay;
mod screen;
mod stand_in;
mod take;
mod walk;

use std::net::{Ipv4Addr, SocketAddrV4};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context as _;
use clap::{Parser, Subcommand};

use persona::Persona;
use recording::RecordedConversation;
use stand_in::{Deed, StandIn};

/// The port of a stand-in's control, on its own address.
const CONTROL_PORT: u16 = 7690;

/// Stand-in devices for demos, training and tests.
#[derive(Debug, Parser)]
#[command(name = "mostra-stage", version)]
struct Arguments {
    #[command(subcommand)]
    verb: Verb,
}

#[derive(Debug, Subcommand)]
enum Verb {
    /// Switch stand-ins on and leave them on
    Run {
        /// Persona files
        #[arg(required = true)]
        personas: Vec<PathBuf>,
        /// Do not look for servers until told
        #[arg(long)]
        quiet: bool,
    },
    /// Say again to a media server what a recorded device said, and compare the answers
    Replay {
        /// The recording, as `mostra recording save` writes it
        file: PathBuf,
        /// The address to speak from
        #[arg(long, default_value_t = Ipv4Addr::LOCALHOST)]
        from: Ipv4Addr,
        /// The address of the server's description; left out: the server is searched for
        #[arg(long, value_name = "URL")]
        description: Option<String>,
    },
    /// Make a persona of a recorded device; it is written to the standard output
    Learn {
        /// The recording, as `mostra recording save` writes it
        file: PathBuf,
        /// The address that the persona is to have
        #[arg(long, default_value_t = Ipv4Addr::new(127, 0, 0, 40))]
        address: Ipv4Addr,
    },
    /// Show a stand-in's screen
    Show {
        /// Its address
        address: Ipv4Addr,
    },
    /// Tell a stand-in to do something, and say how it went
    Do {
        /// Its address
        address: Ipv4Addr,
        #[command(subcommand)]
        deed: Deed,
    },
}

#[tokio::main]
async fn main() -> ExitCode {
    if let Some(ended) = mostra_manual::asked::<Arguments>("1") {
        return ended;
    }
    let outcome = match Arguments::parse().verb {
        Verb::Run { personas, quiet } => run(&personas, quiet).await,
        Verb::Replay { file, from, description } => {
            replay_file(&file, from, description.as_deref()).await
        }
        Verb::Learn { file, address } => learn_file(&file, address),
        Verb::Show { address } => show(address).await,
        Verb::Do { address, deed } => tell(address, &deed).await,
    };
    match outcome {
        Ok(code) => code,
        Err(why) => {
            eprintln!("mostra-stage: {why:#}");
            ExitCode::FAILURE
        }
    }
}

async fn run(files: &[PathBuf], quiet: bool) -> anyhow::Result<ExitCode> {
    let mut stand_ins = Vec::new();
    for file in files {
        let persona = Persona::read(file)?;
        let place = SocketAddrV4::new(persona.address, CONTROL_PORT);
        let listener = std::net::TcpListener::bind(place)
            .with_context(|| format!("{} cannot use {place}; is it on already?", persona.name))?;
        println!("{} is on at {}", persona.name, persona.address);
        let stand_in = Arc::new(StandIn::new(persona));
        control::serve(stand_in.clone(), listener)?;
        announce::run(&stand_in.persona)?;
        stand_ins.push(stand_in);
    }
    if !quiet {
        let searching = |stand_in: &&Arc<StandIn>| stand_in.persona.search.is_some();
        for stand_in in stand_ins.iter().filter(searching) {
            let stand_in = stand_in.clone();
            tokio::spawn(async move { stand_in.act(Deed::Find).await });
        }
    }
    let mut terminate = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate())?;
    tokio::select! {
        _ = tokio::signal::ctrl_c() => {}
        _ = terminate.recv() => {}
    }
    for stand_in in &stand_ins {
        stand_in.leave().await;
    }
    Ok(ExitCode::SUCCESS)
}

async fn replay_file(
    file: &Path,
    from: Ipv4Addr,
    description: Option<&str>,
) -> anyhow::Result<ExitCode> {
    let recording = RecordedConversation::read(file)?;
    let same = replay::replay(&recording, from, description).await?;
    Ok(if same { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

fn learn_file(file: &Path, address: Ipv4Addr) -> anyhow::Result<ExitCode> {
    let persona = learn::learn(&RecordedConversation::read(file)?, address);
    print!("{}", toml::to_string(&persona)?);
    Ok(ExitCode::SUCCESS)
}

async fn show(address: Ipv4Addr) -> anyhow::Result<ExitCode> {
    let place = SocketAddrV4::new(address, CONTROL_PORT);
    let request = http::HttpRequest::new("GET", place, "/stage/screen");
    let answer = http::fetch(Ipv4Addr::UNSPECIFIED, request, 1 << 20)
        .await
        .with_context(|| not_on(address))?;
    print!("{}", String::from_utf8_lossy(&answer.body));
    Ok(ExitCode::SUCCESS)
}

async fn tell(address: Ipv4Addr, deed: &Deed) -> anyhow::Result<ExitCode> {
    let place = SocketAddrV4::new(address, CONTROL_PORT);
    let body = serde_json::to_vec(deed)?;
    let mut request = http::HttpRequest::new("POST", place, "/stage/do");
    request.body = body;
    request.patience = Duration::from_secs(120);
    let answer = http::fetch(Ipv4Addr::UNSPECIFIED, request, 1 << 20)
        .await
        .with_context(|| not_on(address))?;
    let outcome: stand_in::Outcome = serde_json::from_slice(&answer.body)?;
    println!("{} {}", if outcome.done { "✓" } else { "✗" }, outcome.said);
    Ok(if outcome.done { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

fn not_on(address: Ipv4Addr) -> String {
    format!("no stand-in answers at {address}; switch it on with `mostra-stage run`")
}
