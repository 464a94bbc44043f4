//! The console, from elsewhere than this host.

use std::io::IsTerminal as _;

use clap::Subcommand;
use mostra_api::{Code, ConsoleAccess};
use qrcode::QrCode;
use qrcode::render::unicode::Dense1x2;
use reqwest::Method;

use crate::connection::{Connection, Failure};
use crate::output::{Output, time};

#[derive(Debug, Subcommand)]
pub(crate) enum ConsoleVerb {
    /// Open the console to the house's network, by TLS, and show how to get in there
    Open,
    /// Close the console to the house's network; this host still reaches it
    Close,
    /// Show a one-time code with which somebody in the house makes an account
    Code,
}

pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    verb: ConsoleVerb,
) -> Result<(), Failure> {
    match verb {
        ConsoleVerb::Open => {
            let access = set(connection, true).await?;
            // Whoever is elsewhere gets none, and is inside already.
            let code = if output.json { None } else { new_code(connection).await.ok() };
            output.print_drawn(&access, |access| opened(access, code.as_ref()))
        }
        ConsoleVerb::Close => {
            let access = set(connection, false).await?;
            output.print(&access, |_| {
                "The console is closed to the house; this host still reaches it.".into()
            })
        }
        ConsoleVerb::Code => {
            let code = new_code(connection).await?;
            output.print(&code, |c| {
                format!("{}  (for one account, within {} minutes)", c.code, c.seconds / 60)
            })
        }
    }
}

async fn set(connection: &Connection, open: bool) -> Result<ConsoleAccess, Failure> {
    let wish = ConsoleAccess { open, ..ConsoleAccess::default() };
    connection.change(Method::PUT, "/console", Some(&wish)).await
}

async fn new_code(connection: &Connection) -> Result<Code, Failure> {
    connection.change(Method::POST, "/console/code", None::<&()>).await
}

/// Where the console is now, and how somebody there gets in.
fn opened(access: &ConsoleAccess, code: Option<&Code>) -> String {
    let Some(first) = access.addresses.first() else {
        return "The console is open to the house, but no interface is connected. It answers on one that comes back.".into();
    };
    let ends = access.certificate_ends_ms.map(|ends| format!(", until {}", time(ends)));
    let mut text = format!(
        "The console is open to the house at {}\nThe browser there warns once about the certificate{}; its SHA-256 must be\n  {}",
        access.addresses.join(" "),
        ends.unwrap_or_default(),
        access.fingerprint.as_deref().unwrap_or_default()
    );
    match code {
        None => text.push_str("\nFor an account there, on the host: mostra console code"),
        Some(code) => {
            let minutes = code.seconds / 60;
            text.push_str(&format!(
                "\nOne-time code for one account, within {minutes} minutes: {}\nA phone that reads this opens the console with the code filled in:\n{}",
                code.code,
                qr(&format!("{first}/#code={}", code.code)),
            ));
        }
    }
    text
}

/// A QR code in characters: bright squares on a dark ground, as most terminals have. On a terminal it
/// brings its colours along, and the bright parts are grounds, which leave no gaps between lines.
fn qr(text: &str) -> String {
    let Ok(code) = QrCode::new(text) else { return text.to_owned() };
    let (light, dark) = (Dense1x2::Light, Dense1x2::Dark);
    let drawn = code.render::<Dense1x2>().dark_color(light).light_color(dark).build();
    if std::io::stdout().is_terminal() { coloured(&drawn) } else { drawn }
}

fn coloured(drawn: &str) -> String {
    const WHITE_GROUND: &str = "\x1b[38;2;0;0;0;48;2;255;255;255m";
    const WHITE_SQUARES: &str = "\x1b[0;38;2;255;255;255m";
    let mut text = String::new();
    for line in drawn.lines() {
        // Half of the last line is outside.
        let is_edge = line.chars().all(|square| square == '▀');
        text.push_str(if is_edge { WHITE_SQUARES } else { WHITE_GROUND });
        for square in line.chars() {
            match square {
                _ if is_edge => text.push(square),
                '█' => text.push(' '),
                '▀' => text.push('▄'),
                '▄' => text.push('▀'),
                _ => text.push_str("\x1b[7m \x1b[27m"),
            }
        }
        text.push_str("\x1b[0m\n");
    }
    text
}
