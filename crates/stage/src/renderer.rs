//! What a stand-in that renders plays, how loud, and who is told of changes.

use std::net::Ipv4Addr;
use std::time::Duration;

use mostra_protocol::model::service::{ServiceAction as _, av_transport, rendering_control};
use mostra_protocol::model::xml::escape;
use mostra_protocol::server::{Call, Fault, Value, callbacks, write_answer, write_properties};

use crate::http::{self, HttpRequest};

/// Subscriptions kept at one time.
const MOST: usize = 16;

/// A renderer's state.
#[derive(Debug)]
pub(crate) struct Renderer {
    volume: u16,
    muted: bool,
    transport: &'static str,
    subscriptions: Vec<EventSubscription>,
    granted: u32,
}

#[derive(Debug)]
struct EventSubscription {
    service: String,
    sid: String,
    to: std::net::SocketAddrV4,
    path: String,
    seq: u32,
}

impl Default for Renderer {
    fn default() -> Renderer {
        Renderer {
            volume: 20,
            muted: false,
            transport: "NO_MEDIA_PRESENT",
            subscriptions: Vec::new(),
            granted: 0,
        }
    }
}

/// An event that is to be sent.
#[derive(Debug)]
pub(crate) struct EventToSend {
    to: std::net::SocketAddrV4,
    path: String,
    sid: String,
    seq: u32,
    body: String,
}

impl Renderer {
    /// Answers an action, and gives the events that follow from it.
    pub(crate) fn call(
        &mut self,
        service: &str,
        call: &Call,
    ) -> Result<(String, Vec<EventToSend>), Fault> {
        use av_transport::Action as Transport;
        use rendering_control::Action as Rendering;
        let argument = |name: &str| {
            call.arguments.iter().find(|(n, _)| n == name).map(|(_, value)| value.as_str())
        };
        if argument("InstanceID").is_some_and(|id| id.trim() != "0") {
            return Err(Fault::InvalidArgs);
        }
        let (row, values) = match (service, &*call.action) {
            ("RenderingControl", "GetVolume") => {
                (Rendering::GetVolume.row(), vec![Value::from(self.volume.to_string())])
            }
            ("RenderingControl", "GetMute") => {
                (Rendering::GetMute.row(), vec![Value::from(u8::from(self.muted).to_string())])
            }
            ("RenderingControl", "SetVolume") => {
                let wanted = argument("DesiredVolume").and_then(|v| v.trim().parse().ok());
                self.volume = wanted.filter(|v| *v <= 100).ok_or(Fault::InvalidArgs)?;
                (Rendering::SetVolume.row(), vec![])
            }
            ("RenderingControl", "SetMute") => {
                self.muted = match argument("DesiredMute").map(str::trim) {
                    Some("1" | "true" | "yes") => true,
                    Some("0" | "false" | "no") => false,
                    _ => return Err(Fault::InvalidArgs),
                };
                (Rendering::SetMute.row(), vec![])
            }
            ("AVTransport", "GetTransportInfo") => {
                let values = [self.transport, "OK", "1"].map(Value::from);
                (Transport::GetTransportInfo.row(), values.into())
            }
            _ => return Err(Fault::InvalidAction),
        };
        let changed = values.is_empty();
        let events = if changed { self.events(service) } else { Vec::new() };
        Ok((write_answer(call, row, &values), events))
    }

    /// Takes a SUBSCRIBE or an UNSUBSCRIBE; gives the SID, and the first event of a new one.
    pub(crate) fn subscribe(
        &mut self,
        service: &str,
        method: &str,
        from: Ipv4Addr,
        sid: Option<&str>,
        callback: Option<&str>,
    ) -> Result<(String, Option<EventToSend>), u16> {
        if let Some(sid) = sid {
            let at = self.subscriptions.iter().position(|s| s.sid == sid).ok_or(412_u16)?;
            if method == "UNSUBSCRIBE" {
                self.subscriptions.remove(at);
            }
            return Ok((sid.to_owned(), None));
        }
        let (to, path) =
            callbacks(callback.unwrap_or_default(), from, &[]).into_iter().next().ok_or(412_u16)?;
        if self.subscriptions.len() >= MOST {
            self.subscriptions.remove(0);
        }
        self.granted += 1;
        let sid = format!("uuid:00000000-0000-4000-8000-{:012}", self.granted);
        self.subscriptions.push(EventSubscription {
            service: service.to_owned(),
            sid: sid.clone(),
            to,
            path,
            seq: 0,
        });
        let first = self.events_to(|s| s.sid == sid).into_iter().next();
        Ok((sid, first))
    }

    fn events(&mut self, service: &str) -> Vec<EventToSend> {
        self.events_to(|s| s.service == service)
    }

    fn events_to(&mut self, fits: impl Fn(&EventSubscription) -> bool) -> Vec<EventToSend> {
        let (volume, muted, transport) = (self.volume, self.muted, self.transport);
        let subscriptions = self.subscriptions.iter_mut().filter(|s| fits(s));
        subscriptions
            .map(|subscription| {
                let seq = subscription.seq;
                subscription.seq += 1;
                let last_change = |inner: &str| {
                    let text = format!("<Event><InstanceID val=\"0\">{inner}</InstanceID></Event>");
                    ("LastChange".to_owned(), text)
                };
                let variable = match &*subscription.service {
                    "RenderingControl" => last_change(&format!(
                        "<Volume channel=\"Master\" val=\"{volume}\"/>\
                         <Mute channel=\"Master\" val=\"{}\"/>",
                        u8::from(muted)
                    )),
                    "AVTransport" => {
                        last_change(&format!("<TransportState val=\"{}\"/>", escape(transport)))
                    }
                    "ContentDirectory" => ("SystemUpdateID".to_owned(), "1".to_owned()),
                    _ => ("CurrentConnectionIDs".to_owned(), "0".to_owned()),
                };
                EventToSend {
                    to: subscription.to,
                    path: subscription.path.clone(),
                    sid: subscription.sid.clone(),
                    seq,
                    body: write_properties(&[variable]),
                }
            })
            .collect()
    }
}

/// Sends an event; one that is not taken is not sent again.
pub(crate) async fn send(from: Ipv4Addr, event: EventToSend) {
    let mut request = HttpRequest::new("NOTIFY", event.to, &event.path)
        .field("Content-Type", "text/xml; charset=\"utf-8\"")
        .field("NT", "upnp:event")
        .field("NTS", "upnp:propchange")
        .field("SID", &event.sid)
        .field("SEQ", &event.seq.to_string());
    request.body = event.body.into_bytes();
    request.patience = Duration::from_secs(5);
    let _ = http::fetch(from, request, 0).await;
}
