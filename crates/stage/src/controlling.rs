//! A stand-in that controls renderers: finds them, and sets how loud they are.

use std::net::SocketAddrV4;

use anyhow::Context as _;
use mostra_protocol::control_point::{read_answer, read_description, write_call};
use mostra_protocol::model::identifiers::MEDIA_RENDERER;
use mostra_protocol::model::service::rendering_control::{Action, DEFINITION};

use crate::finder;
use crate::http::{self, HttpRequest};
use crate::stand_in::{StandIn, StandInState};

/// Renderers listed at most.
const MOST: usize = 16;

/// A renderer that was found.
#[derive(Debug, Clone)]
pub(crate) struct FoundRenderer {
    name: String,
    at: SocketAddrV4,
    control: String,
}

impl StandIn {
    /// Looks for renderers.
    pub(crate) async fn renderers(&self, state: &mut StandInState) -> anyhow::Result<String> {
        let mut found: Vec<FoundRenderer> = Vec::new();
        let mut tried = Vec::new();
        while tried.len() < MOST {
            let next = finder::find_of(&self.persona, MEDIA_RENDERER, &tried).await?;
            let Some(location) = next else { break };
            if let Ok(renderer) = self.read_renderer(&location).await {
                found.push(renderer);
            }
            tried.push(location);
        }
        let names: Vec<&str> = found.iter().map(|renderer| renderer.name.as_str()).collect();
        let said = match names.as_slice() {
            [] => anyhow::bail!("no renderer found"),
            names => format!("found {}", names.join(", ")),
        };
        state.renderers = found;
        Ok(said)
    }

    async fn read_renderer(&self, location: &str) -> anyhow::Result<FoundRenderer> {
        let (at, path) = http::split_url(location).context("its address cannot be understood")?;
        let request =
            HttpRequest::new("GET", at, &path).field("User-Agent", &self.persona.user_agent);
        let answer = http::fetch(self.persona.address, request, 1 << 20).await?;
        let text = String::from_utf8(answer.body).context("the description is not text")?;
        let device = read_description(&text).context("the description cannot be read")?;
        let (device, service) = device.with(&DEFINITION).context("it has no volume")?;
        let name = device.friendly_name.clone();
        Ok(FoundRenderer { name, at, control: service.control.clone() })
    }

    /// Sets the volume of a renderer.
    pub(crate) async fn set_volume(
        &self,
        state: &mut StandInState,
        name: &str,
        volume: u16,
    ) -> anyhow::Result<String> {
        if !state.renderers.iter().any(|renderer| renderer.name == name) {
            self.renderers(state).await?;
        }
        let renderer = state.renderers.iter().find(|renderer| renderer.name == name);
        let renderer = renderer.with_context(|| format!("there is no renderer {name}"))?;
        let header = format!("\"{}#SetVolume\"", DEFINITION.urn());
        let mut request = HttpRequest::new("POST", renderer.at, &renderer.control)
            .field("User-Agent", &self.persona.user_agent)
            .field("Content-Type", "text/xml; charset=\"utf-8\"")
            .field("SOAPACTION", &header);
        let values = ["0", "Master", &volume.to_string()];
        request.body = write_call(Action::SetVolume, &values).into_bytes();
        let answer = http::fetch(self.persona.address, request, 1 << 20).await?;
        let text = String::from_utf8(answer.body).context("the answer is not text")?;
        read_answer(&text).map_err(|error| anyhow::anyhow!("{name} says {error}"))?;
        Ok(format!("{name} plays at volume {volume}"))
    }
}
