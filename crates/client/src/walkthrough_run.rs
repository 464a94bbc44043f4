//! walkthrough run: stand-ins are walked through, each as a person with a device would do it.

use std::process::ExitCode;
use std::time::{Duration, Instant};

use mostra_api::{Device, House, Walkthrough, WalkthroughList};
use reqwest::Method;
use serde::{Deserialize, Serialize};

use crate::connection::{Connection, Failure};
use crate::output::{Output, say, table};
use crate::walkthrough::{look, pieces};

/// Where a stand-in is driven, at its own address.
const PORT: u16 = 7690;
/// How long a stand-in may take to say what it is, and in how many bytes.
const ANSWER: Duration = Duration::from_millis(700);
const STATE: usize = 64 << 10;
/// How long a walkthrough may take, and how long a finding may take after the last deed.
const WHOLE: Duration = Duration::from_secs(300);
const FINDING: Duration = Duration::from_secs(25);
/// How long is waited for the pieces that a walkthrough asks for.
const PIECES: Duration = Duration::from_secs(600);
/// How often it is looked.
const LOOK: Duration = Duration::from_millis(500);

/// What a stand-in says of itself.
#[derive(Debug, Deserialize)]
struct StandInAnswer {
    expects: String,
}

/// What it is told.
#[derive(Debug, Serialize)]
struct WalkRequest {
    deed: &'static str,
    kinds: Vec<String>,
    pieces: Vec<String>,
    house: String,
}

/// What came of one.
#[derive(Debug, Serialize)]
struct WalkResult {
    device: u32,
    label: String,
    expected: String,
    came_to: String,
    right: bool,
    steps: String,
}

/// The kinds, and the test pieces that are played of them.
const PLAYED: [(&str, &str); 3] =
    [("video", "Flash and beep"), ("music", "Rising notes"), ("picture", "Upright arrow")];

pub(crate) async fn run(
    connection: &Connection,
    output: &Output,
    only: Option<u32>,
) -> Result<ExitCode, Failure> {
    let http = reqwest::Client::builder()
        .no_proxy()
        .redirect(reqwest::redirect::Policy::none())
        .build()
        .map_err(|error| Failure::new(error.to_string(), ""))?;
    let devices: Vec<Device> = connection.get("/devices").await?;
    let mut stand_ins = Vec::new();
    for device in devices {
        let is_wanted = only.is_none_or(|only| only == device.id);
        if !is_wanted || !["admitted", "refused"].contains(&device.standing.as_str()) {
            continue;
        }
        if let Some(state) = state_of(&http, &device).await {
            stand_ins.push((device, state));
        }
    }
    if stand_ins.is_empty() {
        return Err(Failure::new(
            "no stand-in is on that is let in or refused",
            "Switch some on, and let them in: mostra-stage run demo/personas/*.toml",
        ));
    }
    let none: Option<&()> = None;
    for (device, _) in &stand_ins {
        let path = format!("/devices/{}/walkthrough", device.id);
        let _: Walkthrough = connection.change(Method::POST, &path, none).await?;
    }
    let has_pieces = wait_for_pieces(connection, output).await?;
    let house: House = connection.get("/house").await?;
    let walks = stand_ins.iter().map(|(device, state)| {
        walk(connection, &http, device, &state.expects, (&house.name, has_pieces))
    });
    let mut came = Vec::new();
    for walked in futures_util::future::join_all(walks).await {
        came.push(walked?);
    }
    for (device, _) in &stand_ins {
        let path = format!("/devices/{}/walkthrough", device.id);
        let _: Walkthrough = connection.change(Method::DELETE, &path, none).await?;
    }
    output.print(&came, |came| {
        let row = |one: &WalkResult| {
            let mark = if one.right { "✓" } else { "✗" };
            let (label, steps) = (one.label.clone(), one.steps.clone());
            vec![mark.into(), label, steps, one.came_to.clone(), one.expected.clone()]
        };
        table(&["", "device", "steps", "comes to", "should come to"], came.iter().map(row))
    })?;
    Ok(match came.iter().all(|one| one.right) {
        true => ExitCode::SUCCESS,
        false => ExitCode::FAILURE,
    })
}

fn url(device: &Device, path: &str) -> String {
    format!("http://{}:{PORT}/stage/{path}", device.address)
}

/// What a stand-in says of itself; `None` where the device is none.
async fn state_of(http: &reqwest::Client, device: &Device) -> Option<StandInAnswer> {
    let mut answer = http.get(url(device, "state")).timeout(ANSWER).send().await.ok()?;
    let mut text = Vec::new();
    // Whatever answers there may be no stand-in.
    while let Some(piece) = answer.chunk().await.ok()? {
        text.extend_from_slice(&piece);
        if text.len() > STATE {
            return None;
        }
    }
    serde_json::from_slice(&text).ok()
}

/// Waits until the pieces that are played are there; false where they are not to be had.
async fn wait_for_pieces(connection: &Connection, output: &Output) -> Result<bool, Failure> {
    let end = Instant::now() + PIECES;
    let mut said = String::new();
    loop {
        let all: WalkthroughList = connection.get("/walkthroughs").await?;
        let now = &all.test_pieces;
        // Those that are played are made first.
        if now.of == 0 || now.problem.is_some() {
            return Ok(false);
        }
        if now.made >= PLAYED.len() as u32 {
            return Ok(true);
        }
        if let Some(line) = pieces(now).filter(|line| *line != said) {
            if !output.json {
                say(&line);
            }
            said = line;
        }
        if Instant::now() > end {
            return Ok(false);
        }
        tokio::time::sleep(LOOK).await;
    }
}

async fn walk(
    connection: &Connection,
    http: &reqwest::Client,
    device: &Device,
    expected: &str,
    (house, has_pieces): (&str, bool),
) -> Result<WalkResult, Failure> {
    let granted = PLAYED.iter().filter(|(kind, _)| device.kinds.iter().any(|its| its == kind));
    let order = WalkRequest {
        deed: "walk",
        kinds: granted.clone().map(|(kind, _)| (*kind).to_owned()).collect(),
        pieces: match has_pieces {
            true => granted.map(|(_, piece)| (*piece).to_owned()).collect(),
            false => Vec::new(),
        },
        house: house.to_owned(),
    };
    // What it says of itself does not count: what the house saw does.
    let told = http.post(url(device, "do")).timeout(WHOLE).json(&order).send();
    let _ = told.await;
    let end = Instant::now() + FINDING;
    loop {
        let now = look(connection, device.id).await?;
        let right = now.summary.verdict == expected;
        if right || Instant::now() > end {
            let (done, of) = (now.summary.done, now.summary.steps);
            return Ok(WalkResult {
                device: device.id,
                label: device.label.clone(),
                expected: expected.to_owned(),
                came_to: now.summary.verdict,
                right,
                steps: format!("{done} of {of}"),
            });
        }
        tokio::time::sleep(LOOK).await;
    }
}
