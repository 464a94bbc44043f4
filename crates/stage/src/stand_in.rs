//! A stand-in: what it knows, and what it can be told to do.

use anyhow::Context as _;
use std::net::SocketAddrV4;
use std::sync::Arc;

use clap::Subcommand;
use mostra_protocol::control_point::protocol_info::ReadInfo;
use mostra_protocol::control_point::{read_answer, read_description, write_call};
use mostra_protocol::model::didl::{self, ReadObject};
use mostra_protocol::model::service::content_directory::{Action, DEFINITION};
use serde::{Deserialize, Serialize};
use tokio::sync::Mutex;

use crate::control::EVENT_PATH;
use crate::finder;
use crate::http::{self, HttpRequest};
use crate::persona::Persona;
use crate::take::Take;

/// Something a stand-in can be told to do.
#[derive(Debug, Clone, Subcommand, Serialize, Deserialize)]
#[serde(tag = "deed", rename_all = "lowercase")]
pub(crate) enum Deed {
    /// Look for a media server, read its description, subscribe
    Find,
    /// List a menu, such as "Video/All videos"; without a name, the root
    List {
        /// The titles on the way to it, parted by /
        menu: Option<String>,
    },
    /// Play an item by its title
    Play {
        /// The item's title
        title: String,
    },
    /// Skip ahead in what is playing
    Skip,
    /// Ask again for the last item's address, whatever the menus say
    Again,
}

/// How it went.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Outcome {
    /// Whether it worked.
    pub done: bool,
    /// What the screen says about it.
    pub said: String,
    /// Titles on the screen.
    #[serde(default)]
    pub titles: Vec<String>,
}

/// A server that was found.
#[derive(Debug, Clone)]
pub(crate) struct Server {
    /// Its name.
    pub name: String,
    at: SocketAddrV4,
    control: String,
    event: String,
}

/// What is on the screen, and behind it.
#[derive(Debug, Default)]
pub(crate) struct StandInState {
    /// The server in use.
    pub server: Option<Server>,
    /// Where in the menus.
    pub menu: String,
    /// What is listed.
    pub listed: Vec<ReadObject>,
    /// What is playing.
    pub take: Option<Take>,
    /// The last address that was played, with its MIME type.
    pub last_url: Option<(String, String)>,
    /// What the screen says.
    pub said: String,
    /// Events received.
    pub events: u32,
    /// The subscription.
    pub sid: Option<String>,
    /// The update id last told.
    pub update_id: Option<String>,
}

/// A stand-in.
#[derive(Debug)]
pub(crate) struct StandIn {
    /// Its habits.
    pub persona: Persona,
    /// What it knows.
    pub state: Mutex<StandInState>,
}

impl StandIn {
    /// Switched on, knowing nothing.
    pub(crate) fn new(persona: Persona) -> StandIn {
        let said = "switched on".to_owned();
        StandIn { persona, state: Mutex::new(StandInState { said, ..StandInState::default() }) }
    }

    /// Does something and says how it went.
    pub(crate) async fn act(self: &Arc<Self>, deed: Deed) -> Outcome {
        let mut state = self.state.lock().await;
        let outcome = match deed {
            Deed::Find => self.find(&mut state).await,
            Deed::List { menu } => self.list(&mut state, menu.as_deref()).await,
            Deed::Play { title } => self.play(&mut state, &title).await,
            Deed::Skip => self.skip(&mut state).await,
            Deed::Again => self.again(&mut state).await,
        };
        let (done, said) = match outcome {
            Ok(said) => (true, said),
            Err(why) => (false, format!("{why:#}")),
        };
        state.said.clone_from(&said);
        Outcome { done, said, titles: state.listed.iter().map(|o| o.title.clone()).collect() }
    }

    /// An event came: what is on the screen is listed anew.
    pub(crate) async fn changed(self: &Arc<Self>, variables: Vec<(String, String)>) {
        let mut state = self.state.lock().await;
        state.events += 1;
        let told = variables.into_iter().find(|(n, _)| n == "SystemUpdateID").map(|(_, v)| v);
        if told.is_none() || told == state.update_id {
            return;
        }
        state.update_id = told;
        if state.events > 1 && state.take.is_none() {
            let menu = Some(state.menu.clone()).filter(|m| !m.is_empty());
            if self.list(&mut state, menu.as_deref()).await.is_err() {
                let _ = self.list(&mut state, None).await;
            }
            state.said = "the list changed by itself".into();
        }
    }

    /// Switched off: the subscription is given back.
    pub(crate) async fn leave(&self) {
        let state = self.state.lock().await;
        if let (Some(server), Some(sid)) = (&state.server, &state.sid) {
            let request =
                HttpRequest::new("UNSUBSCRIBE", server.at, &server.event).field("SID", sid);
            let _ = http::fetch(self.persona.address, request, 0).await;
        }
    }

    async fn find(&self, state: &mut StandInState) -> anyhow::Result<String> {
        let found = finder::find(&self.persona).await?;
        let location = found.first().context("no media server found")?;
        let (at, path) = http::split_url(location).context("its address cannot be understood")?;
        let request =
            HttpRequest::new("GET", at, &path).field("User-Agent", &self.persona.user_agent);
        let answer = http::fetch(self.persona.address, request, 1 << 20).await?;
        if answer.status != 200 {
            anyhow::bail!("the description cannot be read: {}", answer.status);
        }
        let text = String::from_utf8(answer.body).context("the description is not text")?;
        let device = read_description(&text).context("the description cannot be read")?;
        let (device, content) =
            device.with(&DEFINITION).context("it offers no content directory")?;
        let server = Server {
            name: device.friendly_name.clone(),
            at,
            control: content.control.clone(),
            event: content.event.clone(),
        };
        if self.persona.subscribes {
            let callback =
                format!("<http://{}:{}{EVENT_PATH}>", self.persona.address, crate::CONTROL_PORT);
            let request = HttpRequest::new("SUBSCRIBE", at, &server.event)
                .field("User-Agent", &self.persona.user_agent)
                .field("CALLBACK", &callback)
                .field("NT", "upnp:event")
                .field("TIMEOUT", "Second-1800");
            let answer = http::fetch(self.persona.address, request, 0).await?;
            if answer.status != 200 {
                anyhow::bail!("subscribing failed: {}", answer.status);
            }
            state.sid = answer.field("sid").map(str::to_owned);
        }
        let said = format!("found {}", server.name);
        state.server = Some(server);
        self.list(state, None).await?;
        Ok(said)
    }

    async fn list(&self, state: &mut StandInState, menu: Option<&str>) -> anyhow::Result<String> {
        let mut listed = self.children(state, "0").await?;
        for title in menu.into_iter().flat_map(|way| way.split('/')) {
            let container = listed.iter().find(|o| o.container && o.title == title);
            let container = container.with_context(|| format!("there is no menu {title}"))?;
            listed = self.children(state, &container.id.clone()).await?;
        }
        state.menu = menu.unwrap_or_default().to_owned();
        state.listed = listed;
        state.take = None;
        let place = if state.menu.is_empty() { "the menu" } else { &state.menu };
        Ok(format!("{place} shows {} entries", state.listed.len()))
    }

    /// All children of a container, in pages of the persona's size.
    async fn children(&self, state: &StandInState, id: &str) -> anyhow::Result<Vec<ReadObject>> {
        let mut all: Vec<ReadObject> = Vec::new();
        loop {
            let start = all.len().to_string();
            let (objects, total) = self.browse(state, id, "BrowseDirectChildren", &start).await?;
            let came = objects.len();
            all.extend(objects);
            if came == 0 || all.len() >= total {
                return Ok(all);
            }
        }
    }

    async fn browse(
        &self,
        state: &StandInState,
        id: &str,
        flag: &str,
        start: &str,
    ) -> anyhow::Result<(Vec<ReadObject>, usize)> {
        let server = state.server.as_ref().context("no media server found yet")?;
        let page = self.persona.browse.page.to_string();
        let filter = self.persona.browse.filter.as_str();
        let body = write_call(Action::Browse, &[id, flag, filter, start, &page, ""]);
        let action = format!("\"{}#Browse\"", DEFINITION.urn());
        let mut request = HttpRequest::new("POST", server.at, &server.control)
            .field("User-Agent", &self.persona.user_agent)
            .field("Content-Type", "text/xml; charset=\"utf-8\"")
            .field("SOAPACTION", &action);
        request.body = body.into_bytes();
        let answer = http::fetch(self.persona.address, request, 8 << 20).await?;
        let text = String::from_utf8(answer.body).context("the answer is not text")?;
        let outputs =
            read_answer(&text).map_err(|error| anyhow::anyhow!("the server says {error}"))?;
        let output = |name: &str| outputs.argument(name).unwrap_or_default();
        let objects = didl::read(output("Result")).context("the list cannot be read")?;
        if output("NumberReturned").parse() != Ok(objects.len()) {
            anyhow::bail!("the list and its count differ");
        }
        Ok((objects, output("TotalMatches").parse().unwrap_or(0)))
    }

    async fn play(&self, state: &mut StandInState, title: &str) -> anyhow::Result<String> {
        let item = state.listed.iter().find(|o| !o.container && o.title == title);
        let item = item.with_context(|| format!("{title} is not on the screen"))?.clone();
        let (mut objects, _) = self.browse(state, &item.id, "BrowseMetadata", "0").await?;
        let item = objects.pop().context("the item has gone")?;
        let playable = item.resources.iter().find_map(|(url, info, size)| {
            let ReadInfo { mime, .. } = ReadInfo::read(info)?;
            let plays = self.persona.plays.contains(&mime);
            plays.then(|| (url.clone(), mime, *size))
        });
        let (url, mime, size) =
            playable.with_context(|| format!("{title}: this format is not supported"))?;
        state.last_url = Some((url.clone(), mime.clone()));
        let seconds = self.seconds_of(state, &item.id).await;
        let mut take = Take::begin(&self.persona, title, &url, &mime, seconds).await?;
        if size.is_some_and(|s| s != take.size) {
            anyhow::bail!("listed with {} bytes, sent with {}", size.unwrap_or(0), take.size);
        }
        let verdict =
            take.play(&self.persona).await.with_context(|| format!("{title} cannot be played"))?;
        let said = match mime.split('/').next() {
            Some("image") => format!("showing {title}"),
            Some("audio") => format!("playing {title}: {} pieces of sound", verdict.sounds),
            _ => format!(
                "playing {title}: {} pictures, {} pieces of sound",
                verdict.pictures, verdict.sounds
            ),
        };
        state.take = Some(take);
        Ok(said)
    }

    /// The item's length as listed, read from `res@duration`.
    async fn seconds_of(&self, state: &StandInState, id: &str) -> Option<f64> {
        let server = state.server.as_ref()?;
        let values = [id, "BrowseMetadata", "res@duration", "0", "0", ""];
        let body = write_call(Action::Browse, &values);
        let mut request = HttpRequest::new("POST", server.at, &server.control)
            .field("User-Agent", &self.persona.user_agent);
        request.body = body.into_bytes();
        let answer = http::fetch(self.persona.address, request, 1 << 20).await.ok()?;
        let outputs = read_answer(std::str::from_utf8(&answer.body).ok()?).ok()?;
        let result = outputs.argument("Result")?;
        let at = result.find("duration=\"")? + 10;
        let text = result[at..].split('"').next()?;
        text.split(':').try_fold(0.0, |sum, part| Some(sum * 60.0 + part.parse::<f64>().ok()?))
    }

    async fn skip(&self, state: &mut StandInState) -> anyhow::Result<String> {
        let take = state.take.as_mut().context("nothing is playing")?;
        let verdict = take.skip(&self.persona).await.context("skipping ahead failed")?;
        Ok(format!(
            "playing {} from further on: {} pictures, {} pieces of sound",
            take.title, verdict.pictures, verdict.sounds
        ))
    }

    /// Asks for the last address again: what a device does that remembers one.
    async fn again(&self, state: &mut StandInState) -> anyhow::Result<String> {
        let (url, mime) = state.last_url.clone().context("nothing was played yet")?;
        let take = Take::begin(&self.persona, "the last item", &url, &mime, None).await?;
        Ok(format!("the server still sends it, {} bytes", take.size))
    }
}
