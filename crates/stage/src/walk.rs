//! Being walked through: what a person with the device does at it, one step after the other, and what
//! goes wrong with a device that has a fault.

use std::time::{Duration, Instant};

use anyhow::Context as _;
use clap::Args;
use mostra_protocol::control_point::read_description;
use mostra_protocol::model::service::content_directory::DEFINITION;
use serde::{Deserialize, Serialize};

use crate::persona::Fault;
use crate::stand_in::{StandIn, StandInState};
use crate::take::Take;
use crate::{finder, http};

/// For how long a piece is watched.
const WATCH: u64 = 27;
/// How long a fault is let be seen.
const SHOWN: Duration = Duration::from_secs(8);

/// What is to be done in a walkthrough.
#[derive(Debug, Clone, Args, Serialize, Deserialize)]
pub(crate) struct WalkOrder {
    /// The kinds to list and play: video, music, picture
    #[arg(long, value_delimiter = ',', default_value = "video,music,picture")]
    pub kinds: Vec<String>,
    /// The titles of the test pieces to play, one of each kind in the same order
    #[arg(long, value_delimiter = ';')]
    #[serde(default)]
    pub pieces: Vec<String>,
    /// The name of the house, where there are other servers
    #[arg(long)]
    #[serde(default)]
    pub house: Option<String>,
}

/// The menus in which a kind is found, and the first part of its MIME types.
fn menus(kind: &str) -> Option<(&'static str, &'static str)> {
    match kind {
        "video" => Some(("Video/All videos", "video/")),
        "music" => Some(("Music/All tracks", "audio/")),
        "picture" => Some(("Pictures/All pictures", "image/")),
        _ => None,
    }
}

impl StandIn {
    /// Is walked through.
    pub(crate) async fn walk(
        &self,
        state: &mut StandInState,
        order: &WalkOrder,
    ) -> anyhow::Result<String> {
        let fault = self.persona.fault;
        let is_house = |name: &str| order.house.as_deref().is_none_or(|house| house == name);
        if fault == Some(Fault::ReadsNothing) {
            finder::find(&self.persona, &[]).await?;
            return Ok("went no further".into());
        }
        if fault == Some(Fault::OpensNothing) {
            return self.read_alone(is_house).await;
        }
        // One that is kept out gets no answer, and asks where it asked before.
        let before = state.server.clone();
        let found = self.find(state).await;
        if !state.server.as_ref().is_some_and(|server| is_house(&server.name)) {
            let known = before.filter(|server| is_house(&server.name));
            if known.is_none() {
                found?;
            }
            state.server = Some(known.context("the house does not answer")?);
        }
        if fault == Some(Fault::ListsNothing) {
            return Ok("listed nothing".into());
        }
        for (at, kind) in order.kinds.iter().enumerate() {
            let (menu, mime) = menus(kind).with_context(|| format!("{kind} is no kind"))?;
            if !self.persona.plays.iter().any(|plays| plays.starts_with(mime)) {
                continue;
            }
            self.walk_kind(state, menu, mime, order.pieces.get(at).map(String::as_str)).await?;
        }
        Ok("walked through".into())
    }

    /// Reads descriptions until it has that of the house, and does no more.
    async fn read_alone(&self, is_house: impl Fn(&str) -> bool) -> anyhow::Result<String> {
        let mut tried = Vec::new();
        while let Some(location) = finder::find(&self.persona, &tried).await? {
            let (at, path) = http::split_url(&location).context("a strange address")?;
            let agent = &self.persona.user_agent;
            let get = http::HttpRequest::new("GET", at, &path).field("User-Agent", agent);
            let answer = http::fetch(self.persona.address, get, 1 << 20).await?;
            let text = String::from_utf8_lossy(&answer.body).into_owned();
            let is_it = read_description(&text).is_ok_and(|read| {
                read.with(&DEFINITION).is_some_and(|(device, _)| is_house(&device.friendly_name))
            });
            if is_it {
                return Ok("went no further".into());
            }
            tried.push(location);
        }
        anyhow::bail!("no media server found")
    }

    async fn walk_kind(
        &self,
        state: &mut StandInState,
        menu: &str,
        mime: &str,
        piece: Option<&str>,
    ) -> anyhow::Result<()> {
        let fault = self.persona.fault;
        let by_class = self.persona.browse.by_class.keys();
        let own = by_class.clone().find(|title| menu.starts_with(title.as_str()));
        let films = by_class.clone().find(|title| mime == "video/" && *title == "Films");
        let menu = own.or(films).map_or(menu, String::as_str).to_owned();
        self.list(state, Some(&menu)).await?;
        if fault == Some(Fault::PlaysNothing) {
            return Ok(());
        }
        if let Some(piece) = piece
            && !state.listed.iter().any(|object| object.title == piece)
        {
            self.list(state, Some("Test pieces")).await?;
        }
        let wanted = |title: &str| piece.is_none_or(|piece| piece == title);
        let title = state.listed.iter().find(|object| !object.container && wanted(&object.title));
        let title = title.context("there is nothing to play")?.title.clone();
        let (url, mime, _, seconds) = self.recognise(state, &title).await?;
        if self.take_wrongly(&title, &url, &mime, seconds).await? {
            return Ok(());
        }
        let mut take = Take::begin(&self.persona, &title, &url, &mime, seconds).await?;
        if mime.starts_with("image/") {
            take.get(&self.persona, 0, take.size).await?;
        } else {
            take.watch(&self.persona, WATCH).await?;
            take.jump(&self.persona).await?;
        }
        state.take = Some(take);
        Ok(())
    }

    /// Takes a piece as its fault has it; false where it has none.
    async fn take_wrongly(
        &self,
        title: &str,
        url: &str,
        mime: &str,
        seconds: Option<f64>,
    ) -> anyhow::Result<bool> {
        let persona = &self.persona;
        let Some(fault) = persona.fault else { return Ok(false) };
        let begin = Take::begin(persona, title, url, mime, seconds);
        let mut take = begin.await?;
        let rate = take.size as f64 / seconds.unwrap_or(60.0);
        match fault {
            Fault::LooksAndLeaves => take.get(persona, 0, 100_000).await?,
            Fault::GivesUp => {
                for _ in 0..3 {
                    take.get(persona, 0, (rate * 1.5) as u64).await?;
                    tokio::time::sleep(Duration::from_secs(2)).await;
                }
            }
            Fault::ReadsTheEnd => {
                let length = (rate * 2.0) as u64;
                take.get(persona, take.size - length, length).await?;
            }
            Fault::Copies => {
                let mut at = 0;
                while at < take.size {
                    let length = (4 << 20).min(take.size - at);
                    take.get(persona, at, length).await?;
                    at += length;
                }
            }
            Fault::Slow | Fault::Stops => {
                // 3 of 12 Mbit/s; or at the piece's own pace, and then no more.
                let (each, lasts) = match fault {
                    Fault::Slow => (rate / 4.0, Duration::from_secs(20)),
                    _ => (rate, Duration::from_secs(14)),
                };
                let began = Instant::now();
                let mut at = 0;
                while began.elapsed() < lasts && at < take.size {
                    let length = ((each / 2.0) as u64).min(take.size - at);
                    take.get(persona, at, length).await?;
                    at += length;
                    tokio::time::sleep(Duration::from_millis(500)).await;
                }
            }
            _ => return Ok(false),
        }
        tokio::time::sleep(SHOWN).await;
        Ok(true)
    }
}
