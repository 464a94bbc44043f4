//! The flags: one for each setting, and what else the program can do.

use std::collections::BTreeMap;
use std::path::PathBuf;

use clap::{Arg, ArgMatches, Args, FromArgMatches, Parser, Subcommand};

use super::settings::{SETTINGS, Setting};

/// Publishes the house's media folders and proves that devices can play them.
#[derive(Debug, Clone, Parser)]
#[command(name = "mostrad", version, args_override_self = true)]
pub(crate) struct Flags {
    /// Configuration file [default: DATA/mostra.toml, if there]
    #[arg(long, value_name = "FILE")]
    pub(super) config: Option<PathBuf>,
    #[command(flatten)]
    settings: Given,
    /// Print the OpenAPI document of the console's interface and exit
    #[arg(long)]
    pub openapi: bool,
    /// What to do instead of serving
    #[command(subcommand)]
    pub command: Option<Command>,
}

/// What is done instead of serving.
#[derive(Debug, Clone, Subcommand)]
pub(crate) enum Command {
    /// Accounts, for whoever is on the host
    #[command(subcommand)]
    Account(AccountVerb),
    /// Save the records as a file in the data directory; the service may be running
    Save,
    /// Put saved records in the place of those that are here, while no service runs: where it does
    /// not start with them, as an older version on newer ones
    Restore {
        /// The file, or the name of one that `mostra records list` shows
        #[arg(value_name = "FILE")]
        file: PathBuf,
    },
}

/// What is done with accounts.
#[derive(Debug, Clone, Subcommand)]
pub(crate) enum AccountVerb {
    /// Set a lost password and end the account's sessions; the service may be running
    Reset(Reset),
    /// Print the code with which the first account is made in a browser
    First,
}

/// Which account, and its password.
#[derive(Debug, Clone, Args)]
pub(crate) struct Reset {
    /// The account
    #[arg(default_value = "house")]
    pub name: String,
    /// Read the new password from this file, or from standard input with `-` [default: a random one, printed]
    #[arg(long, value_name = "FILE")]
    pub password_file: Option<String>,
}

/// The settings that were given as flags, by name.
#[derive(Debug, Clone, Default)]
struct Given(BTreeMap<&'static str, String>);

impl FromArgMatches for Given {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Given, clap::Error> {
        let value = |s: &Setting| Some((s.name, matches.get_one::<String>(s.name)?.clone()));
        Ok(Given(SETTINGS.iter().filter_map(value).collect()))
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), clap::Error> {
        self.0.extend(Given::from_arg_matches(matches)?.0);
        Ok(())
    }
}

impl Args for Given {
    fn augment_args(command: clap::Command) -> clap::Command {
        SETTINGS.iter().fold(command, |command, setting| {
            let flag = Arg::new(setting.name).long(setting.flag()).help(setting.help());
            command.arg(flag.value_name(setting.placeholder))
        })
    }

    fn augment_args_for_update(command: clap::Command) -> clap::Command {
        Given::augment_args(command)
    }
}

impl Flags {
    /// The settings given, by name.
    pub(super) fn given(&self) -> &BTreeMap<&'static str, String> {
        &self.settings.0
    }
}
