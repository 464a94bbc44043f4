//! `mostrad account reset`: a lost password, set anew on the host by whoever may read the
//! service's data.

use std::io::Read as _;

use mostra_app::accounts::{check_password, first_code, hash_now, is_account_name};
use mostra_app::random::random_word;

use crate::config::{Config, Reset};
use crate::startup_error::StartupError;

/// Sets the password of an account, and ends its sessions; the service may run meanwhile. Where
/// there is no such account it is made.
///
/// # Errors
/// [`StartupError`] with the remedy.
pub(crate) async fn run(config: &Config, reset: &Reset) -> Result<(), StartupError> {
    let password = match reset.password_file.as_deref() {
        None => None,
        Some("-") => {
            let mut text = String::new();
            std::io::stdin().read_to_string(&mut text).map_err(unreadable)?;
            Some(text)
        }
        Some(file) => Some(std::fs::read_to_string(file).map_err(unreadable)?),
    };
    let chosen = password.is_some();
    let password = password.map(|text| text.trim_end_matches(['\n', '\r']).to_owned());
    let password = password.unwrap_or_else(|| random_word(14));
    if check_password(&password).is_err() {
        return Err(StartupError::new("the password cannot be used", "Take 8 to 1000 characters."));
    }
    let records = crate::records::open(config).await?;
    let saved = async {
        let hash = hash_now(&password)
            .map_err(|error| mostra_store::StoreError::Refused(error.to_string()))?;
        let known = records.set_password(&reset.name, &hash, None).await?;
        if !known && !is_account_name(&reset.name) {
            let why = "there is no such account, and no new one may have that name";
            return Err(mostra_store::StoreError::Refused(why.into()));
        }
        if !known {
            records.add_account(&reset.name, &hash).await?;
        }
        records.sessions_changed().await?;
        Ok::<_, mostra_store::StoreError>(known)
    };
    let known = saved.await.map_err(|error| {
        StartupError::new(format!("the password was not set: {error}"), "See PostgreSQL's log.")
    })?;
    let name = &reset.name;
    match known {
        true => println!("The account {name} has a new password, and all its sessions have ended."),
        false => println!("There was no account {name}; it is made."),
    }
    if !chosen {
        println!("Its password is {password}");
    }
    Ok(())
}

/// Prints the code with which the first account is made in a browser.
///
/// # Errors
/// [`StartupError`] when there is an account already, or the code cannot be kept.
pub(crate) async fn first(config: &Config) -> Result<(), StartupError> {
    let records = crate::records::open(config).await?;
    let any = records.has_accounts().await.map_err(|error| {
        StartupError::new(format!("the records do not answer: {error}"), "See PostgreSQL's log.")
    })?;
    if any {
        return Err(StartupError::new(
            "there is an account already",
            "Sign in with it. Where its password is lost: mostrad account reset NAME",
        ));
    }
    let code = first_code(&config.data).map_err(|error| {
        StartupError::new(
            format!("the code cannot be kept: {error}"),
            "Run it as the service's own user, or as root.",
        )
    })?;
    println!("{code}");
    Ok(())
}

fn unreadable(error: std::io::Error) -> StartupError {
    StartupError::new(format!("the password cannot be read: {error}"), "Name a file that can be.")
}
