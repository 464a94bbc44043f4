//! The flags, which name the values as the file and the environment do.

use std::collections::BTreeMap;
use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};

/// Publishes the house's media folders and proves that devices can play them.
#[derive(Debug, Parser)]
#[command(name = "mostrad", version, args_override_self = true)]
pub(crate) struct Flags {
    /// Configuration file [default: DATA/mostra.toml, if there]
    #[arg(long, value_name = "FILE")]
    pub(super) config: Option<PathBuf>,
    /// Directory for the certificate and the database's address
    #[arg(long, value_name = "DIR")]
    data: Option<String>,
    /// Interfaces or addresses to serve: auto (all private IPv4), loopback, or a comma list
    #[arg(long, value_name = "LIST")]
    interfaces: Option<String>,
    /// Port of the device listener
    #[arg(long, value_name = "PORT")]
    device_port: Option<String>,
    /// Seconds between looks at folders that cannot be watched
    #[arg(long, value_name = "SECONDS")]
    poll_seconds: Option<String>,
    /// Seconds that an announcement stays valid, 60 to 86400
    #[arg(long, value_name = "SECONDS")]
    max_age: Option<String>,
    /// Time to live of multicast, 0 to 4
    #[arg(long, value_name = "HOPS")]
    multicast_ttl: Option<String>,
    /// Most connections of devices at once
    #[arg(long, value_name = "NUMBER")]
    connections: Option<String>,
    /// Subnets from which devices may ask as well, as 10.1.0.0/24 in a comma list
    #[arg(long, value_name = "SUBNETS")]
    also_from: Option<String>,
    /// Whether the registrar is offered, for which some consoles look: on or off
    #[arg(long, value_name = "ON-OFF")]
    registrar: Option<String>,
    /// Edition of the Device Architecture that is named: 1.0, or 1.1
    #[arg(long, value_name = "EDITION")]
    edition: Option<String>,
    /// Model name in the device document, where a device needs a certain one
    #[arg(long, value_name = "NAME")]
    model_name: Option<String>,
    /// Model number in the device document
    #[arg(long, value_name = "NUMBER")]
    model_number: Option<String>,
    /// Rules for devices that need something done differently [default: DATA/traits.toml, if there]
    #[arg(long, value_name = "FILE")]
    traits: Option<String>,
    /// When folders are scanned: auto (at start and on changes) or asked
    #[arg(long, value_name = "WHEN")]
    scan: Option<String>,
    /// Port of the console on 127.0.0.1
    #[arg(long, value_name = "PORT")]
    console_port: Option<String>,
    /// Port of the console for the house, by TLS, once a person opens it
    #[arg(long, value_name = "PORT")]
    house_port: Option<String>,
    /// PostgreSQL to use [default: the one that scripts/postgres keeps for DATA]
    #[arg(long, value_name = "URL")]
    database_url: Option<String>,
    /// Least important messages to log: error, warn, info, debug
    #[arg(long, value_name = "LEVEL")]
    log: Option<String>,
    /// How to log: text or json
    #[arg(long, value_name = "FORM")]
    log_format: Option<String>,
    /// Print the OpenAPI document of the console's interface and exit
    #[arg(long)]
    pub openapi: bool,
    /// What to do instead of serving
    #[command(subcommand)]
    pub command: Option<Command>,
}

/// What is done instead of serving.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Accounts, for whoever is on the host
    #[command(subcommand)]
    Account(AccountVerb),
}

/// What is done with accounts.
#[derive(Debug, Subcommand)]
pub(crate) enum AccountVerb {
    /// Set a lost password and end the account's sessions; the service may be running
    Reset(Reset),
}

/// Which account, and its password.
#[derive(Debug, Args)]
pub(crate) struct Reset {
    /// The account
    #[arg(default_value = "house")]
    pub name: String,
    /// Read the new password from this file, or from standard input with `-` [default: a random one, printed]
    #[arg(long, value_name = "FILE")]
    pub password_file: Option<String>,
}

/// The values by name, as in the file.
pub(super) const NAMES: [&str; 19] = [
    "data",
    "interfaces",
    "device_port",
    "poll_seconds",
    "max_age",
    "multicast_ttl",
    "connections",
    "also_from",
    "registrar",
    "edition",
    "model_name",
    "model_number",
    "scan",
    "traits",
    "console_port",
    "house_port",
    "database_url",
    "log",
    "log_format",
];

impl Flags {
    fn all(&self) -> [&Option<String>; NAMES.len()] {
        [
            &self.data,
            &self.interfaces,
            &self.device_port,
            &self.poll_seconds,
            &self.max_age,
            &self.multicast_ttl,
            &self.connections,
            &self.also_from,
            &self.registrar,
            &self.edition,
            &self.model_name,
            &self.model_number,
            &self.scan,
            &self.traits,
            &self.console_port,
            &self.house_port,
            &self.database_url,
            &self.log,
            &self.log_format,
        ]
    }

    /// The values given, by name.
    pub(super) fn given(&self) -> BTreeMap<&'static str, String> {
        let all = NAMES.into_iter().zip(self.all());
        all.filter_map(|(name, value)| Some((name, value.clone()?))).collect()
    }

    /// The data directory, if given.
    pub(super) fn data(&self) -> Option<&str> {
        self.data.as_deref()
    }
}
