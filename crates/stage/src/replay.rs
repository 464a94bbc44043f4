//! Saying again to a server what a device said to one, and comparing the answers.
//!
//! Ids and addresses of objects are each server's own: those of the recording are exchanged for those
//! that the server gives in the same place of the same list.

use std::collections::HashMap;
use std::net::{Ipv4Addr, SocketAddrV4};
use std::time::Duration;

use anyhow::Context as _;
use mostra_protocol::control_point::{ReadDevice, read_answer, read_description};
use mostra_protocol::model::conversation::{Entry, Exchange};
use mostra_protocol::model::didl::{self, ReadObject};
use mostra_protocol::model::identifiers::split_version;
use mostra_protocol::model::xml::escape;

use crate::finder;
use crate::http::{self, HttpRequest};
use crate::learn::learn;
use crate::recording::{RecordedConversation, action};

/// The longest pause between two requests.
const PAUSE: Duration = Duration::from_secs(2);
/// Bytes read of an answer: of media, enough to see that they come.
const ANSWER: u64 = 1 << 20;
/// Fields that belong to the connection, or to the device that was recorded.
const OWN_FIELDS: [&str; 6] =
    ["host", "connection", "content-length", "transfer-encoding", "callback", "user-agent"];

/// How one request went.
#[derive(Debug, PartialEq, Eq)]
enum Compared {
    Same,
    Different(String),
    LeftOut(&'static str),
}

/// What is known of the server so far.
struct OtherServer {
    at: SocketAddrV4,
    description: String,
    device: ReadDevice,
    ids: HashMap<String, String>,
    targets: HashMap<String, String>,
}

/// Replays a recording from an address; says how each request went, and gives whether all were
/// answered as before.
///
/// # Errors
/// Where there is no server.
pub(crate) async fn replay(
    recording: &RecordedConversation,
    from: Ipv4Addr,
    description: Option<&str>,
) -> anyhow::Result<bool> {
    let persona = learn(recording, from);
    let location = match description {
        Some(url) => url.to_owned(),
        None => finder::find(&persona, &[]).await?.context("no media server found")?,
    };
    let mut server = OtherServer::read(from, &location).await?;
    println!("Replaying {} to {}.", recording.heading.device, server.device.friendly_name);
    let (mut same, mut different, mut left_out) = (0, 0, 0);
    let mut before: Option<u64> = None;
    for entry in &recording.entries {
        let Entry::Request(request) = entry else { continue };
        let pause = before.map_or(0, |before| request.at_ms.saturating_sub(before));
        tokio::time::sleep(Duration::from_millis(pause).min(PAUSE)).await;
        before = Some(request.at_ms);
        let compared = server.say(from, &persona.user_agent, request).await;
        let what = match action(request) {
            Some((_, action)) => action.to_owned(),
            None => format!("{} {}", request.method, request.target),
        };
        match compared {
            Compared::Same => {
                same += 1;
                println!("  ✓ {what}: {}", request.status);
            }
            Compared::Different(how) => {
                different += 1;
                println!("  ✗ {what}: {how}");
            }
            Compared::LeftOut(why) => {
                left_out += 1;
                println!("  - {what}: left out, {why}");
            }
        }
    }
    println!("{same} answered as before, {different} otherwise, {left_out} left out.");
    Ok(different == 0)
}

impl OtherServer {
    async fn read(from: Ipv4Addr, location: &str) -> anyhow::Result<OtherServer> {
        let (at, path) = http::split_url(location).context("its address cannot be understood")?;
        let answer = http::fetch(from, HttpRequest::new("GET", at, &path), 1 << 20).await?;
        let text = String::from_utf8(answer.body).context("the description is not text")?;
        let device = read_description(&text).context("the description cannot be read")?;
        let device = device.root().clone();
        let (ids, targets) = (HashMap::new(), HashMap::new());
        Ok(OtherServer { at, description: path, device, ids, targets })
    }

    /// Sends a request of the recording, and compares the answer.
    async fn say(&mut self, from: Ipv4Addr, agent: &str, request: &Exchange) -> Compared {
        if matches!(&*request.method, "SUBSCRIBE" | "UNSUBSCRIBE") {
            return Compared::LeftOut("its events would go to nobody");
        }
        let Some(path) = self.path_for(request) else {
            return Compared::LeftOut("this server has nothing in its place");
        };
        let mut again = HttpRequest::new(&request.method, self.at, &path);
        for (name, value) in &request.fields {
            if !OWN_FIELDS.iter().any(|own| name.eq_ignore_ascii_case(own)) {
                again = again.field(name, value);
            }
        }
        if !agent.is_empty() {
            again = again.field("User-Agent", agent);
        }
        again.body = self.with_ids(&request.body).into_bytes();
        let answer = match http::fetch(from, again, ANSWER).await {
            Ok(answer) => answer,
            Err(why) => return Compared::Different(format!("{why:#}")),
        };
        let text = String::from_utf8_lossy(&answer.body);
        self.note_objects(&request.answer, &text);
        compare(request, answer.status, &text)
    }

    /// Where a request goes to at this server.
    fn path_for(&self, request: &Exchange) -> Option<String> {
        if let Some((service, _)) = action(request) {
            let fits = |kind: &str| split_version(kind).0 == service;
            let services = self.device.services.iter();
            let service = services.into_iter().find(|service| fits(&service.kind.to_string()))?;
            return Some(service.control.clone());
        }
        if let Some(path) = self.targets.get(&request.target) {
            return Some(path.clone());
        }
        // The first document that a device reads is the description.
        let is_description = request.method == "GET"
            && request.answer.contains("<root")
            && request.answer.contains("deviceType");
        is_description.then(|| self.description.clone())
    }

    /// A body with the ids of this server.
    fn with_ids(&self, body: &str) -> String {
        let mut body = body.to_owned();
        for name in ["ObjectID", "ContainerID"] {
            let (open, close) = (format!("<{name}>"), format!("</{name}>"));
            let Some(start) = body.find(&open).map(|at| at + open.len()) else { continue };
            let Some(end) = body[start..].find(&close).map(|at| start + at) else { continue };
            if let Some(ours) = self.ids.get(&body[start..end]) {
                body.replace_range(start..end, &escape(ours));
            }
        }
        body
    }

    /// Takes note of which object here stands for which of the recording.
    fn note_objects(&mut self, before: &str, now: &str) {
        let objects = |answer: &str| -> Vec<ReadObject> {
            let read = read_answer(answer).ok();
            let result = read.as_ref().and_then(|answer| answer.argument("Result"));
            result.and_then(|text| didl::read(text).ok()).unwrap_or_default()
        };
        for (theirs, ours) in objects(before).iter().zip(&objects(now)) {
            self.ids.insert(theirs.id.clone(), ours.id.clone());
            for ((url, ..), (own, ..)) in theirs.resources.iter().zip(&ours.resources) {
                if let (Some((_, path)), Some((_, own))) =
                    (http::split_url(url), http::split_url(own))
                {
                    self.targets.insert(path, own);
                }
            }
        }
    }
}

/// Compares an answer with that of the recording: its status, and of a list how many came.
fn compare(request: &Exchange, status: u16, text: &str) -> Compared {
    if status != request.status {
        return Compared::Different(format!("{status} and not {}", request.status));
    }
    let argument = |text: &str, name: &str| {
        read_answer(text).ok().and_then(|answer| answer.argument(name).map(str::to_owned))
    };
    for name in ["NumberReturned", "TotalMatches"] {
        let (before, now) = (argument(&request.answer, name), argument(text, name));
        if before != now && before.is_some() && !request.cut {
            let word = |value: Option<String>| value.unwrap_or_else(|| "none".into());
            return Compared::Different(format!("{name} {} and not {}", word(now), word(before)));
        }
    }
    Compared::Same
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn answers_are_compared_by_status_and_by_how_many_came() {
        let answer = |count: u32| {
            format!(
                "<s:Envelope xmlns:s=\"http://schemas.xmlsoap.org/soap/envelope/\"><s:Body>\
                 <u:BrowseResponse xmlns:u=\"urn:x\"><NumberReturned>{count}</NumberReturned>\
                 </u:BrowseResponse></s:Body></s:Envelope>"
            )
        };
        let request = Exchange { status: 200, answer: answer(3), ..Exchange::default() };
        assert_eq!(compare(&request, 200, &answer(3)), Compared::Same);
        let less = Compared::Different("NumberReturned 2 and not 3".into());
        assert_eq!(compare(&request, 200, &answer(2)), less);
        assert_eq!(compare(&request, 500, ""), Compared::Different("500 and not 200".into()));
        let none = Compared::Different("NumberReturned none and not 3".into());
        assert_eq!(compare(&request, 200, "odd"), none);
    }
}
