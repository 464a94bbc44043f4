//! mostra: the house from the command line.

mod account;
mod catalogue;
mod config;
mod connection;
mod console;
mod device;
mod device_history;
mod device_words;
mod exposure;
mod folder;
mod handover;
mod house;
mod house_file;
mod moved;
mod network;
mod network_call;
mod network_watch;
mod output;
mod preflight;
mod preset;
mod recording;
mod records;
mod seen_by;
mod stream;
mod support;
mod walkthrough;
mod walkthrough_run;
mod words;

use std::process::ExitCode;

use clap::{Parser, Subcommand};

use connection::{Connection, Failure};
use output::Output;

/// Publish media folders, let devices in, and see the proof that they play.
#[derive(Debug, Parser)]
#[command(name = "mostra", version, propagate_version = true)]
struct Arguments {
    /// The address of a console, in the place of the socket; it needs a login
    #[arg(long, global = true, env = "MOSTRA_CONSOLE", hide_env_values = true, value_name = "URL")]
    console: Option<String>,
    /// The socket of the house on this host [default: that of the installed service, or of one that
    /// you run]
    #[arg(
        long,
        global = true,
        env = "MOSTRA_SOCKET",
        hide_env_values = true,
        value_name = "PATH",
        conflicts_with = "console"
    )]
    socket: Option<std::path::PathBuf>,
    /// File with the token of this login [default: one for each console in ~/.config/mostra]
    #[arg(
        long,
        global = true,
        env = "MOSTRA_TOKEN_FILE",
        value_name = "FILE",
        hide_default_value = true
    )]
    token_file: Option<std::path::PathBuf>,
    /// Print JSON for programs
    #[arg(long, global = true)]
    json: bool,
    #[command(subcommand)]
    noun: Noun,
}

#[derive(Debug, Subcommand)]
enum Noun {
    /// Show how the house is: catalogue, devices, streams, and what needs attention
    Status,
    /// On first start, make an account by choosing its password; of a house elsewhere, sign in
    Login {
        /// The account
        #[arg(long, default_value = "house")]
        name: String,
        /// Read the password from this file, or from standard input with `-`
        #[arg(long, value_name = "FILE")]
        password_file: Option<String>,
        /// The code with which the first account is made from elsewhere: `mostrad account first`
        /// prints it
        #[arg(long)]
        code: Option<String>,
    },
    /// Look at what stands in the way of devices; exit code 3 when something stops them
    Preflight {
        /// Show what was looked at last, and look at nothing
        #[arg(long)]
        last: bool,
        /// The firewall's rules as `sudo nft -j list ruleset` prints them, from a file or with `-` from
        /// standard input, where the service may not read them
        #[arg(long, value_name = "FILE", conflicts_with = "last")]
        firewall: Option<String>,
        /// Say of all checks why they matter
        #[arg(long)]
        all: bool,
    },
    /// Sign out and drop the token
    Logout,
    /// The house's name, and how it treats devices and titles
    #[command(subcommand)]
    House(house::HouseVerb),
    /// The console on other machines of the house
    #[command(subcommand)]
    Console(console::ConsoleVerb),
    /// Published folders
    #[command(subcommand)]
    Folder(folder::FolderVerb),
    /// What the content directory offers
    #[command(subcommand)]
    Catalogue(catalogue::CatalogueVerb),
    /// Devices, decisions and proof
    #[command(subcommand)]
    Device(device::DeviceVerb),
    /// Walk a device through: see that it finds, lists and plays, step by step
    #[command(subcommand)]
    Walkthrough(walkthrough::WalkthroughVerb),
    /// What the household keeps on paper
    #[command(subcommand)]
    Handover(handover::HandoverVerb),
    /// One archive for whoever helps
    #[command(subcommand)]
    Support(support::SupportVerb),
    /// Recorded conversations of devices with this house
    #[command(subcommand)]
    Recording(recording::RecordingVerb),
    /// What is on the network, whether it asked this house or not
    #[command(subcommand)]
    Network(network::NetworkVerb),
    /// Streams: which device receives what
    #[command(subcommand)]
    Stream(stream::StreamVerb),
    /// How busy the host is
    Host,
    /// Grants with a name
    #[command(subcommand)]
    Preset(preset::PresetVerb),
    /// Show what is open to whom, and what of it is wider than it needs to be
    Exposure,
    /// Explain a term of the field in one sentence
    Explain {
        /// The term; left out: all
        term: Option<String>,
    },
    /// Accounts, passwords and sessions
    #[command(subcommand)]
    Account(account::AccountVerb),
    /// The service's configuration
    #[command(subcommand)]
    Config(config::ConfigVerb),
    /// The records as files: save, list, restore, check
    #[command(subcommand)]
    Records(records::RecordsVerb),
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> ExitCode {
    if let Some(ended) = mostra_manual::asked::<Arguments>("1") {
        return ended;
    }
    // A reader that closes the pipe early is no failure.
    let arguments = Arguments::parse();
    let (console, socket) = (arguments.console.as_deref(), arguments.socket);
    let connection = match Connection::new(console, socket, arguments.token_file) {
        Ok(connection) => connection,
        Err(failure) => return failure.report(arguments.json),
    };
    let output = Output { json: arguments.json };
    let mut ended = ExitCode::SUCCESS;
    let outcome = match arguments.noun {
        Noun::Preflight { last, firewall, all } => {
            let look = preflight::Look { last, firewall: firewall.as_deref() };
            let found = preflight::run(&connection, &output, look, all).await;
            found.map(|code| ended = code)
        }
        Noun::Status => house::status(&connection, &output).await,
        Noun::Login { name, password_file, code } => {
            house::login(&connection, &output, &name, password_file.as_deref(), code).await
        }
        Noun::Logout => house::logout(&connection, &output).await,
        Noun::House(verb) => house::run(&connection, &output, verb).await,
        Noun::Console(verb) => console::run(&connection, &output, verb).await,
        Noun::Folder(verb) => folder::run(&connection, &output, verb).await,
        Noun::Catalogue(verb) => catalogue::run(&connection, &output, verb).await,
        Noun::Network(verb) => network::run(&connection, &output, verb).await,
        Noun::Device(verb) => device::run(&connection, &output, verb).await,
        Noun::Walkthrough(verb) => {
            walkthrough::run(&connection, &output, verb).await.map(|code| ended = code)
        }
        Noun::Handover(verb) => handover::run(&connection, &output, verb).await,
        Noun::Support(verb) => support::run(&connection, &output, verb).await,
        Noun::Recording(verb) => recording::run(&connection, &output, verb).await,
        Noun::Stream(verb) => stream::run(&connection, &output, verb).await,
        Noun::Host => stream::host(&connection, &output).await,
        Noun::Preset(verb) => preset::run(&connection, &output, verb).await,
        Noun::Exposure => exposure::show(&connection, &output).await,
        Noun::Explain { term } => words::explain(&connection, &output, term.as_deref()).await,
        Noun::Account(verb) => account::run(&connection, &output, verb).await,
        Noun::Records(verb) => records::run(&connection, &output, verb).await,
        Noun::Config(verb) => config::run(&connection, &output, verb).await,
    };
    match outcome {
        Ok(()) => ended,
        Err(failure) => Failure::report(&failure, arguments.json),
    }
}
