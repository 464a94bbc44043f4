//! account list, add, password, remove, sessions, sign-out.

use clap::Subcommand;
use mostra_api::{Account, AccountSession, AccountUse, Code, NewAccount, NewPassword};
use reqwest::Method;

use crate::connection::{Connection, Failure};
use crate::house::password;
use crate::output::{Done, Output, sure, table, time};

#[derive(Debug, Subcommand)]
pub(crate) enum AccountVerb {
    /// List accounts; each may do everything
    List,
    /// Make an account
    Add {
        /// Its name: letters, digits, - _ or .
        name: String,
        /// Read its password from this file, or from standard input with `-`
        #[arg(long, value_name = "FILE")]
        password_file: Option<String>,
    },
    /// Set a password; other sessions of the account end
    Password {
        /// The account [default: your own]
        name: Option<String>,
        /// Read the new password from this file, or from standard input with `-`
        #[arg(long, value_name = "FILE")]
        password_file: Option<String>,
        /// Read your own current password from this file
        #[arg(long, value_name = "FILE")]
        current_file: Option<String>,
    },
    /// Remove an account and end its sessions
    Remove {
        /// Its name
        name: String,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
    /// List sessions that have not ended
    Sessions,
    /// End all sessions of an account, or one session
    SignOut {
        /// An account's name, or a session from `account sessions`
        what: String,
    },
}

pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    verb: AccountVerb,
) -> Result<(), Failure> {
    match verb {
        AccountVerb::List => {
            let accounts: Vec<AccountUse> = connection.get("/accounts").await?;
            output.print(&accounts, |accounts| {
                let row = |a: &AccountUse| {
                    let you = if a.you { "you" } else { "" };
                    vec![a.name.clone(), a.sessions.to_string(), you.into()]
                };
                table(&["account", "sessions", ""], accounts.iter().map(row))
            })
        }
        AccountVerb::Add { name, password_file } => {
            let password = password(password_file.as_deref(), true)?;
            let code: Code = connection.change(Method::POST, "/console/code", None::<&()>).await?;
            let new = NewAccount { name: Some(name), password, code: Some(code.code) };
            let made: Account = connection.change(Method::POST, "/accounts", Some(&new)).await?;
            output.print(&made, |a| format!("{} has an account now.", a.name))
        }
        AccountVerb::Password { name, password_file, current_file } => {
            let accounts: Vec<AccountUse> = connection.get("/accounts").await?;
            let own = accounts.iter().find(|a| a.you).map(|a| a.name.clone()).unwrap_or_default();
            let name = name.unwrap_or_else(|| own.clone());
            let current = match name == own {
                true => Some(password(current_file.as_deref(), false)?),
                false => None,
            };
            let new = NewPassword { password: password(password_file.as_deref(), true)?, current };
            let path = format!("/accounts/{}/password", in_path(&name));
            connection.put(&path, &new).await?;
            output.print(&Account { name }, |a| {
                format!("The password of {} is changed; its other sessions have ended.", a.name)
            })
        }
        AccountVerb::Remove { name, yes } => {
            if !yes && !sure(&format!("Remove the account {name} and end its sessions?")) {
                return Err(Failure::new(
                    "nothing was removed",
                    "Say --yes to remove without being asked.",
                ));
            }
            connection.remove(&format!("/accounts/{}", in_path(&name))).await?;
            output.print(&Account { name }, |a| format!("The account {} is removed.", a.name))
        }
        AccountVerb::Sessions => {
            let sessions: Vec<AccountSession> = connection.get("/sessions").await?;
            output.print(&sessions, |sessions| {
                let row = |s: &AccountSession| {
                    let by = if s.program { "program" } else { "browser" };
                    let you = if s.you { "this one" } else { "" };
                    vec![
                        s.id.clone(),
                        s.account.clone(),
                        by.into(),
                        time(s.began_ms),
                        time(s.expires_ms),
                        you.into(),
                    ]
                };
                let heading = ["session", "account", "by", "since", "until", ""];
                table(&heading, sessions.iter().map(row))
            })
        }
        AccountVerb::SignOut { what } => {
            let accounts: Vec<AccountUse> = connection.get("/accounts").await?;
            let path = match accounts.iter().any(|a| a.name == what) {
                true => format!("/accounts/{}/sessions", in_path(&what)),
                false => format!("/sessions/{}", in_path(&what)),
            };
            connection.remove(&path).await?;
            output.print(&Done { done: true }, |_| format!("{what} is signed out."))
        }
    }
}

/// A name as one part of a path.
fn in_path(name: &str) -> impl std::fmt::Display + '_ {
    percent_encoding::utf8_percent_encode(name, percent_encoding::NON_ALPHANUMERIC)
}
