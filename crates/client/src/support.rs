//! support write: one archive for whoever helps.

use std::path::PathBuf;

use clap::Subcommand;

use crate::connection::{Connection, Failure};
use crate::output::{Done, Output, bytes};

#[derive(Debug, Subcommand)]
pub(crate) enum SupportVerb {
    /// Write versions, preflight, settings without secrets, devices, walkthroughs, sightings and log
    /// into one archive
    Write {
        /// Where to; a file that is there is replaced
        #[arg(default_value = "mostra-support.tar")]
        file: PathBuf,
    },
}

pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    verb: SupportVerb,
) -> Result<(), Failure> {
    let SupportVerb::Write { file } = verb;
    let length = connection.download("/support", &file).await?;
    output.print(&Done { done: true }, |_| {
        let file = file.display();
        format!(
            "{file} is written, {}. It holds no media, passwords or tokens, but names, addresses and \
             titles: README.txt in it says what is in it. Look through it before you send it.",
            bytes(length)
        )
    })
}
