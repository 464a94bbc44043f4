//! A stand-in: what it knows, and what it can be told to do.

use anyhow::Context as _;
use std::net::SocketAddrV4;
use std::sync::Arc;

use clap::Subcommand;
use mostra_protocol::control_point::protocol_info::ReadInfo;
use mostra_protocol::control_point::read_description;
use mostra_protocol::model::didl::ReadObject;
use mostra_protocol::model::identifiers::split_version;
use mostra_protocol::model::service::Definition;
use mostra_protocol::model::service::content_directory::DEFINITION;
use serde::{Deserialize, Serialize};
use tokio::sync::Mutex;

use crate::announce;
use crate::control::EVENT_PATH;
use crate::controlling::FoundRenderer;
use crate::finder;
use crate::http::{self, HttpRequest};
use crate::persona::Persona;
use crate::renderer::Renderer;
use crate::take::Take;
use crate::walk::WalkOrder;

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
    /// Play an item for some seconds, no faster than it plays
    Watch {
        /// The item's title
        title: String,
        /// For how long
        #[arg(default_value_t = 25)]
        seconds: u64,
    },
    /// Skip ahead in what is playing
    Skip,
    /// Look for renderers, and list them
    Renderers,
    /// Set the volume of a renderer that was listed
    Volume {
        /// Its name
        renderer: String,
        /// From 0 to 100
        volume: u16,
    },
    /// Ask again for the last item's address, whatever the menus say
    Again,
    /// Be walked through: find the house, list each kind, play and skip in a test piece of each
    Walk(WalkOrder),
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
    /// Its address and port.
    pub at: SocketAddrV4,
    event: String,
    /// Where its services are called, by type without version.
    control: Vec<(String, String)>,
}

impl Server {
    /// Where a service of it is called.
    pub(crate) fn control_of(&self, of: &Definition) -> Option<&str> {
        let found = self.control.iter().find(|(name, _)| name == of.name);
        found.map(|(_, path)| path.as_str())
    }
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
    /// Renderers that were found.
    pub renderers: Vec<FoundRenderer>,
}

/// A stand-in.
#[derive(Debug)]
pub(crate) struct StandIn {
    /// Its habits.
    pub persona: Arc<Persona>,
    /// What it knows.
    pub state: Mutex<StandInState>,
    renderer: std::sync::Mutex<Renderer>,
}

impl StandIn {
    /// Switched on, knowing nothing.
    pub(crate) fn new(persona: Persona) -> StandIn {
        let said = "switched on".to_owned();
        StandIn {
            persona: Arc::new(persona),
            state: Mutex::new(StandInState { said, ..StandInState::default() }),
            renderer: std::sync::Mutex::default(),
        }
    }

    /// What it plays and how loud, of one that renders.
    pub(crate) fn renderer(&self) -> std::sync::MutexGuard<'_, Renderer> {
        self.renderer.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// Does something and says how it went.
    pub(crate) async fn act(self: &Arc<Self>, deed: Deed) -> Outcome {
        let mut state = self.state.lock().await;
        let outcome = match deed {
            Deed::Find => self.find(&mut state).await,
            Deed::List { menu } => self.list(&mut state, menu.as_deref()).await,
            Deed::Play { title } => self.play(&mut state, &title).await,
            Deed::Watch { title, seconds } => self.watch(&mut state, &title, seconds).await,
            Deed::Skip => self.skip(&mut state).await,
            Deed::Renderers => self.renderers(&mut state).await,
            Deed::Volume { renderer, volume } => {
                self.set_volume(&mut state, &renderer, volume).await
            }
            Deed::Again => self.again(&mut state).await,
            Deed::Walk(order) => self.walk(&mut state, &order).await,
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

    /// Switched off: the subscription is given back, and the others are told.
    pub(crate) async fn leave(&self) {
        announce::leave(&self.persona).await;
        let state = self.state.lock().await;
        if let (Some(server), Some(sid)) = (&state.server, &state.sid) {
            let request =
                HttpRequest::new("UNSUBSCRIBE", server.at, &server.event).field("SID", sid);
            let _ = http::fetch(self.persona.address, request, 0).await;
        }
    }

    /// Uses the first server that can be listed: a person takes another when one shows nothing.
    pub(crate) async fn find(&self, state: &mut StandInState) -> anyhow::Result<String> {
        let mut tried = Vec::new();
        let mut last = None;
        while let Some(location) = finder::find(&self.persona, &tried).await? {
            match self.connect(state, &location).await {
                Ok(said) => return Ok(said),
                Err(why) => last = Some(why),
            }
            tried.push(location);
        }
        Err(last.unwrap_or_else(|| anyhow::anyhow!("no media server found")))
    }

    async fn connect(&self, state: &mut StandInState, location: &str) -> anyhow::Result<String> {
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
        let services = device.services.iter().map(|service| {
            let kind = service.kind.to_string();
            (split_version(&kind).0.to_owned(), service.control.clone())
        });
        let server = Server {
            name: device.friendly_name.clone(),
            at,
            event: content.event.clone(),
            control: services.collect(),
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
        if self.persona.registrar {
            self.ask_registrar(state).await?;
        }
        self.list(state, None).await?;
        Ok(said)
    }

    pub(crate) async fn list(
        &self,
        state: &mut StandInState,
        menu: Option<&str>,
    ) -> anyhow::Result<String> {
        let listed = self.menu(state, menu).await?;
        state.menu = menu.unwrap_or_default().to_owned();
        state.listed = listed;
        state.take = None;
        let place = if state.menu.is_empty() { "the menu" } else { &state.menu };
        Ok(format!("{place} shows {} entries", state.listed.len()))
    }

    /// Finds an item on the screen and takes what is needed to recognise it.
    async fn begin(&self, state: &mut StandInState, title: &str) -> anyhow::Result<Take> {
        let (url, mime, size, seconds) = self.recognise(state, title).await?;
        let take = Take::begin(&self.persona, title, &url, &mime, seconds).await?;
        if size.is_some_and(|s| s != take.size) {
            anyhow::bail!("listed with {} bytes, sent with {}", size.unwrap_or(0), take.size);
        }
        Ok(take)
    }

    /// Finds an item on the screen that it can play: its address, type, bytes and seconds.
    pub(crate) async fn recognise(
        &self,
        state: &mut StandInState,
        title: &str,
    ) -> anyhow::Result<(String, String, Option<u64>, Option<f64>)> {
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
        Ok((url, mime, size, seconds))
    }

    async fn play(&self, state: &mut StandInState, title: &str) -> anyhow::Result<String> {
        let mut take = self.begin(state, title).await?;
        let verdict =
            take.play(&self.persona).await.with_context(|| format!("{title} cannot be played"))?;
        let said = match take.mime.split('/').next() {
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

    /// Plays an item at its own pace.
    async fn watch(
        &self,
        state: &mut StandInState,
        title: &str,
        seconds: u64,
    ) -> anyhow::Result<String> {
        let mut take = self.begin(state, title).await?;
        take.watch(&self.persona, seconds).await?;
        state.take = Some(take);
        Ok(format!("watched {title} for {seconds} s"))
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
