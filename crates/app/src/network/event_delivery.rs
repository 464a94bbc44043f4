//! Delivering events to subscribers.

use std::net::SocketAddrV4;
use std::sync::Arc;
use std::time::Duration;

use mostra_core::sighting::Act;
use mostra_net::http::{Bounds, Client, HttpOptions, Method, RequestError};
use mostra_protocol::Moment;
use mostra_protocol::model::conversation::{Entry, Exchange};
use mostra_protocol::server::{DeliveryOutcome, EventDelivery, write_properties};

use super::Subscriptions;
use crate::Context;
use crate::clock::ms;
use crate::devices::Devices;

/// How long an event may take to be delivered (GENA-14).
const BOUNDS: Bounds =
    Bounds { connect: Duration::from_secs(3), whole: Some(Duration::from_secs(10)), silence: None };

/// Delivers events as they become due, each subscriber on its own (GENA-14).
pub async fn run(context: Context, subscriptions: Arc<Subscriptions>, devices: Arc<Devices>) {
    let client = match Client::new(&BOUNDS, &HttpOptions::default()) {
        Ok(client) => client,
        Err(error) => {
            tracing::error!("events cannot be sent: {error}");
            return;
        }
    };
    loop {
        let due = subscriptions.publisher().next_deadline().map(|at| context.clock.instant(at));
        let wait = async {
            match due {
                Some(at) => tokio::time::sleep_until(at).await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            () = wait => {}
            () = subscriptions.woken() => {}
            () = context.stopping() => return,
        }
        loop {
            let Some(delivery) = subscriptions.publisher().poll_output(context.now()) else {
                break;
            };
            let (subscriptions, client) = (subscriptions.clone(), client.clone());
            let (devices, context) = (devices.clone(), context.clone());
            tokio::spawn(async move {
                let recorder = EventRecorder { devices: &devices, context: &context };
                let outcome = deliver(&client, &delivery, recorder).await;
                tracing::debug!(sid = delivery.sid, seq = delivery.seq, "event: {outcome:?}");
                let service = delivery.service.slug().to_owned();
                devices.report_at(
                    delivery.source,
                    match outcome {
                        DeliveryOutcome::Done => Act::EventDelivered { service },
                        DeliveryOutcome::Gone | DeliveryOutcome::Failed => {
                            Act::EventFailed { service }
                        }
                    },
                );
                subscriptions.publisher().delivered(&delivery.sid, outcome);
                subscriptions.wake();
            });
        }
    }
}

/// Notes events that are sent to a device whose conversation is recorded.
#[derive(Clone, Copy)]
struct EventRecorder<'a> {
    devices: &'a Devices,
    context: &'a Context,
}

impl EventRecorder<'_> {
    fn note(
        self,
        began: Moment,
        delivery: &EventDelivery,
        path: &str,
        body: &str,
        status: Option<u16>,
    ) {
        self.devices.record_at(delivery.source, || {
            let took = self.context.now().since(began);
            let mut exchange = Exchange {
                at_ms: ms(began),
                took_ms: u64::try_from(took.as_millis()).unwrap_or(u64::MAX),
                method: "NOTIFY".into(),
                target: path.to_owned(),
                fields: vec![
                    ("SID".into(), delivery.sid.clone()),
                    ("SEQ".into(), delivery.seq.to_string()),
                ],
                status: status.unwrap_or_default(),
                ..Exchange::default()
            };
            exchange.keep_body(body.as_bytes());
            Entry::Event(exchange)
        });
    }
}

/// Tries the callbacks in order until one accepts (GENA-7).
async fn deliver(
    client: &Client,
    delivery: &EventDelivery,
    recorder: EventRecorder<'_>,
) -> DeliveryOutcome {
    let body = write_properties(&delivery.variables);
    for (address, path) in &delivery.callbacks {
        let began = recorder.context.now();
        let answer = attempt(client, *address, path, delivery, body.clone()).await;
        recorder.note(began, delivery, path, &body, answer.as_ref().ok().copied());
        match answer {
            Ok(412) => return DeliveryOutcome::Gone,
            Ok(status) if (200..300).contains(&status) => return DeliveryOutcome::Done,
            Ok(_) | Err(_) => {}
        }
    }
    DeliveryOutcome::Failed
}

async fn attempt(
    client: &Client,
    address: SocketAddrV4,
    path: &str,
    delivery: &EventDelivery,
    body: String,
) -> Result<u16, RequestError> {
    // NOTIFY is a valid token, so this cannot fail; GET would be refused by the subscriber.
    let method = Method::from_bytes(b"NOTIFY").unwrap_or(Method::GET);
    let sequence = delivery.seq.to_string();
    let fields = [
        ("Content-Type", "text/xml; charset=\"utf-8\""),
        ("NT", "upnp:event"),
        ("NTS", "upnp:propchange"),
        ("SID", &*delivery.sid),
        ("SEQ", &*sequence),
    ];
    let url = format!("http://{address}{path}");
    Ok(client.send(method, &url, &fields, body).await?.status().as_u16())
}
