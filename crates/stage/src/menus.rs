//! Listing what a server offers: by browsing, or by searching for classes.

use anyhow::Context as _;
use mostra_protocol::control_point::{Answer, read_answer, write_call};
use mostra_protocol::model::didl::{self, ReadObject};
use mostra_protocol::model::service::ServiceAction;
use mostra_protocol::model::service::content_directory::Action;
use mostra_protocol::model::service::registrar;

use crate::http::{self, HttpRequest};
use crate::stand_in::{StandIn, StandInState};

impl StandIn {
    /// Calls an action of the server in use.
    pub(crate) async fn call<A: ServiceAction>(
        &self,
        state: &StandInState,
        action: A,
        values: &[&str],
    ) -> anyhow::Result<Answer> {
        let server = state.server.as_ref().context("no media server found yet")?;
        let of = A::service();
        let path = server.control_of(of).context("the server has no such service")?;
        let header = format!("\"{}#{}\"", of.urn(), action.row().name);
        let mut request = HttpRequest::new("POST", server.at, path)
            .field("User-Agent", &self.persona.user_agent)
            .field("Content-Type", "text/xml; charset=\"utf-8\"")
            .field("SOAPACTION", &header);
        request.body = write_call(action, values).into_bytes();
        let answer = http::fetch(self.persona.address, request, 8 << 20).await?;
        let text = String::from_utf8(answer.body).context("the answer is not text")?;
        read_answer(&text).map_err(|error| anyhow::anyhow!("the server says {error}"))
    }

    /// Asks the registrar, as some consoles do before they list anything.
    pub(crate) async fn ask_registrar(&self, state: &StandInState) -> anyhow::Result<()> {
        let answer = self.call(state, registrar::Action::IsAuthorized, &[""]).await?;
        match answer.argument("Result") {
            Some("1") => Ok(()),
            _ => anyhow::bail!("the server says that this console is not authorised"),
        }
    }

    /// The entries of a menu; of none, those of the root.
    pub(crate) async fn menu(
        &self,
        state: &StandInState,
        menu: Option<&str>,
    ) -> anyhow::Result<Vec<ReadObject>> {
        if !self.persona.browse.by_class.is_empty() {
            return self.menu_by_class(state, menu).await;
        }
        let mut listed = self.children(state, "0").await?;
        for title in menu.into_iter().flat_map(|way| way.split('/')) {
            let container = listed.iter().find(|o| o.container && o.title == title);
            let container = container.with_context(|| format!("there is no menu {title}"))?;
            listed = self.children(state, &container.id.clone()).await?;
        }
        Ok(listed)
    }

    /// Menus of the device's own making: one for each class that it knows.
    async fn menu_by_class(
        &self,
        state: &StandInState,
        menu: Option<&str>,
    ) -> anyhow::Result<Vec<ReadObject>> {
        let known = &self.persona.browse.by_class;
        let Some(menu) = menu else {
            let mut listed = Vec::new();
            for (title, class) in known {
                let (_, total) = self.search(state, class, 0, 1).await?;
                if total == 0 {
                    continue;
                }
                listed.push(ReadObject {
                    container: true,
                    id: class.clone(),
                    parent: "0".into(),
                    reference: None,
                    child_count: u32::try_from(total).ok(),
                    title: title.clone(),
                    class: class.clone(),
                    resources: Vec::new(),
                });
            }
            return Ok(listed);
        };
        let class = known.get(menu).with_context(|| format!("there is no menu {menu}"))?;
        let mut all: Vec<ReadObject> = Vec::new();
        loop {
            let page = self.persona.browse.page;
            let (objects, total) = self.search(state, class, all.len(), page).await?;
            let came = objects.len();
            all.extend(objects);
            if all.is_empty() {
                anyhow::bail!("there is nothing in {menu}");
            }
            if came == 0 || all.len() >= total {
                return Ok(all);
            }
        }
    }

    async fn search(
        &self,
        state: &StandInState,
        class: &str,
        start: usize,
        count: u32,
    ) -> anyhow::Result<(Vec<ReadObject>, usize)> {
        let criteria = format!("upnp:class derivedfrom \"{class}\"");
        let (start, count) = (start.to_string(), count.to_string());
        let values = ["0", &criteria, &self.persona.browse.filter, &start, &count, ""];
        page_of(&self.call(state, Action::Search, &values).await?)
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

    /// One page of a container, or an object by itself.
    pub(crate) async fn browse(
        &self,
        state: &StandInState,
        id: &str,
        flag: &str,
        start: &str,
    ) -> anyhow::Result<(Vec<ReadObject>, usize)> {
        let page = self.persona.browse.page.to_string();
        let values = [id, flag, self.persona.browse.filter.as_str(), start, &page, ""];
        page_of(&self.call(state, Action::Browse, &values).await?)
    }

    /// The item's length as listed, read from `res@duration`.
    pub(crate) async fn seconds_of(&self, state: &StandInState, id: &str) -> Option<f64> {
        let values = [id, "BrowseMetadata", "res@duration", "0", "0", ""];
        let outputs = self.call(state, Action::Browse, &values).await.ok()?;
        let result = outputs.argument("Result")?;
        let at = result.find("duration=\"")? + 10;
        let text = result[at..].split('"').next()?;
        text.split(':').try_fold(0.0, |sum, part| Some(sum * 60.0 + part.parse::<f64>().ok()?))
    }
}

/// The objects of an answer, and how many there are in all.
fn page_of(answer: &Answer) -> anyhow::Result<(Vec<ReadObject>, usize)> {
    let output = |name: &str| answer.argument(name).unwrap_or_default();
    let objects = didl::read(output("Result")).context("the list cannot be read")?;
    if output("NumberReturned").parse() != Ok(objects.len()) {
        anyhow::bail!("the list and its count differ");
    }
    Ok((objects, output("TotalMatches").parse().unwrap_or(0)))
}
