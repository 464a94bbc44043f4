//! mostra: the house from the command line.

mod account;
mod catalogue;
mod config;
mod connection;
mod console;
mod device;
mod folder;
mod house;
mod moved;
mod output;
mod records;
mod stream;

use std::process::ExitCode;

use clap::{Parser, Subcommand};

use connection::{Connection, Failure};
use output::Output;

/// Publish media folders, let devices in, and see the proof that they play.
#[derive(Debug, Parser)]
#[command(name = "mostra", version, propagate_version = true)]
struct Arguments {
    /// The service's console address [default: that of the house on this host, else of the demo]
    #[arg(long, global = true, env = "MOSTRA_CONSOLE", hide_env_values = true, value_name = "URL")]
    console: Option<String>,
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
    /// Sign in; on first start, choose the password
    Login {
        /// The account
        #[arg(long, default_value = "house")]
        name: String,
        /// Read the password from this file, or from standard input with `-`
        #[arg(long, value_name = "FILE")]
        password_file: Option<String>,
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
    /// Streams: which device receives what
    #[command(subcommand)]
    Stream(stream::StreamVerb),
    /// How busy the host is
    Host,
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
    let connection = match Connection::new(arguments.console.as_deref(), arguments.token_file) {
        Ok(connection) => connection,
        Err(failure) => return failure.report(arguments.json),
    };
    let output = Output { json: arguments.json };
    let outcome = match arguments.noun {
        Noun::Status => house::status(&connection, &output).await,
        Noun::Login { name, password_file } => {
            house::login(&connection, &output, &name, password_file.as_deref()).await
        }
        Noun::Logout => house::logout(&connection, &output).await,
        Noun::House(verb) => house::run(&connection, &output, verb).await,
        Noun::Console(verb) => console::run(&connection, &output, verb).await,
        Noun::Folder(verb) => folder::run(&connection, &output, verb).await,
        Noun::Catalogue(verb) => catalogue::run(&connection, &output, verb).await,
        Noun::Device(verb) => device::run(&connection, &output, verb).await,
        Noun::Stream(verb) => stream::run(&connection, &output, verb).await,
        Noun::Host => stream::host(&connection, &output).await,
        Noun::Account(verb) => account::run(&connection, &output, verb).await,
        Noun::Records(verb) => records::run(&connection, &output, verb).await,
        Noun::Config(verb) => config::run(&connection, &output, verb).await,
    };
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => Failure::report(&failure, arguments.json),
    }
}
