//! Watching the state variables of things on the network, by subscription, as long as somebody looks.

use std::collections::{BTreeMap, HashMap};
use std::net::{IpAddr, Ipv4Addr};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use mostra_core::found::{ServiceState, SubscriptionPhase};
use mostra_core::ids::FoundId;
use mostra_net::http::{self, Bounds, Client, HttpOptions, Method};
use mostra_protocol::Moment;
use mostra_protocol::control_point::{
    Ask, Notice, Notification, Subscriber, SubscriptionRequest, read_granted,
};
use tokio::sync::Notify;

use super::{Network, NotCalled, server_field};
use crate::Topic;
use crate::random::random_uuid;

/// Where events are sent to; what follows cannot be guessed (GENA-19).
pub const HEARD: &str = "/heard/";
/// Services watched at one time.
const WATCHED: usize = 16;
/// How long a service is watched after somebody last looked.
const LEASE: Duration = Duration::from_secs(30);
/// How often a service is subscribed at anew at most because events were missed (GENA-23).
const ANEW: Duration = Duration::from_secs(30);
/// How long all UNSUBSCRIBEs together may take when the service stops (GENA-27).
const FAREWELLS: Duration = Duration::from_secs(1);
/// How long a subscription may take to be answered (GENA-18).
const BOUNDS: Bounds =
    Bounds { connect: Duration::from_secs(3), whole: Some(Duration::from_secs(10)), silence: None };

/// A service of a thing, by its place in the list.
type ServicePlace = (FoundId, usize);

/// A service that is watched.
#[derive(Debug)]
struct WatchedService {
    place: ServicePlace,
    host: Ipv4Addr,
    url: String,
    path: String,
    from: Ipv4Addr,
    until: Moment,
    /// When it was subscribed at because events were missed.
    anew: Moment,
    state: ServiceState,
}

#[derive(Debug, Default)]
struct WatchBook {
    subscriber: Subscriber,
    services: BTreeMap<u32, WatchedService>,
    /// From which address of ours a subscription is ended that is watched no more.
    leaving: HashMap<u32, Ipv4Addr>,
    next: u32,
}

impl WatchBook {
    fn subscribe(&mut self, now: Moment, id: u32) {
        if let Some(service) = self.services.get(&id) {
            let (url, path) = (service.url.clone(), service.path.clone());
            self.subscriber.add(now, id, service.host, url, path);
        }
    }

    /// Takes what is known, and gives the next request with the address that it leaves from, and
    /// whether anything changed.
    fn poll(&mut self, now: Moment) -> (Option<(SubscriptionRequest, Ipv4Addr)>, bool) {
        let over: Vec<u32> =
            self.services.iter().filter(|(_, s)| s.until <= now).map(|(id, _)| *id).collect();
        for id in over {
            self.subscriber.remove(id);
            if let Some(service) = self.services.remove(&id) {
                self.leaving.insert(id, service.from);
            }
        }
        let mut changed = false;
        while let Some(notice) = self.subscriber.poll_notice(now) {
            let (Notice::Event { id, .. } | Notice::Missed { id } | Notice::Silent { id }) = notice;
            let Some(service) = self.services.get_mut(&id) else { continue };
            changed = true;
            match notice {
                Notice::Event { variables, .. } => service.state.apply(now, variables),
                Notice::Silent { .. } => service.state.phase = SubscriptionPhase::Silent,
                Notice::Missed { .. } => {
                    service.state.missed = service.state.missed.saturating_add(1);
                    // The first event of a new subscription holds all of the state.
                    if now.since(service.anew) >= ANEW {
                        service.anew = now;
                        self.subscribe(now, id);
                    }
                }
            }
        }
        let output = self.subscriber.poll_output(now).and_then(|request| {
            let from = match self.services.get(&request.id) {
                Some(service) => service.from,
                None => self.leaving.remove(&request.id)?,
            };
            Some((request, from))
        });
        (output, changed)
    }

    fn next_deadline(&self) -> Option<Moment> {
        let leases = self.services.values().map(|service| service.until);
        leases.chain(self.subscriber.next_deadline()).min()
    }
}

/// Services whose state variables somebody watches.
#[derive(Debug, Default)]
pub struct Watching {
    book: Mutex<WatchBook>,
    due: Notify,
}

impl Watching {
    fn book(&self) -> MutexGuard<'_, WatchBook> {
        self.book.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether events are expected at a path.
    pub fn expects(&self, path: &str) -> bool {
        self.book().services.values().any(|service| service.path == path)
    }

    /// Takes a NOTIFY with its variables, and gives the status to answer.
    pub fn notify(
        &self,
        now: Moment,
        notification: Notification<'_>,
        variables: Vec<(String, String)>,
    ) -> u16 {
        let status = self.book().subscriber.notify(now, notification, variables);
        self.due.notify_one();
        status
    }
}

impl Network {
    /// The state variables of a service as far as they are known; from now on and for 30 seconds it
    /// is subscribed at, so that they stay so.
    ///
    /// # Errors
    /// [`NotCalled`] when there is no such service, or one cannot subscribe at it.
    pub fn watch_service(&self, id: FoundId, number: usize) -> Result<ServiceState, NotCalled> {
        let (service, from) = self.service(id, number).ok_or(NotCalled::NoService)?;
        let Some(IpAddr::V4(from)) = from else { return Err(NotCalled::InterfaceDown) };
        let url = service.event.ok_or(NotCalled::NoEvents)?;
        // Addresses in a description lead to the host that gave it, or nowhere (SCP-18).
        let host = self.found.book().get(id).map(|thing| thing.address);
        let host = host.ok_or(NotCalled::NoService)?;
        let now = self.context.now();
        let mut book = self.watching.book();
        let place = (id, number);
        let same = |s: &WatchedService| (s.place, &s.url, s.from) == (place, &url, from);
        let known = book.services.iter_mut().find(|(_, service)| same(service));
        if let Some((_, service)) = known {
            service.until = now + LEASE;
            return Ok(service.state.clone());
        }
        if book.services.len() >= WATCHED {
            return Err(NotCalled::TooMany(WATCHED));
        }
        let number = book.next;
        book.next = book.next.wrapping_add(1);
        let service = WatchedService {
            place,
            host,
            url,
            path: format!("{HEARD}{}", random_uuid()),
            from,
            until: now + LEASE,
            anew: now,
            state: ServiceState::default(),
        };
        book.services.insert(number, service);
        book.subscribe(now, number);
        drop(book);
        self.watching.due.notify_one();
        Ok(ServiceState::default())
    }
}

/// Subscribes, renews and ends subscriptions until the service stops.
pub async fn run(network: Arc<Network>) {
    loop {
        let due = network.watching.book().next_deadline();
        let wait = async {
            match due {
                Some(at) => tokio::time::sleep_until(network.context.clock.instant(at)).await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            () = wait => {}
            () = network.watching.due.notified() => {}
            () = network.context.stopping() => break,
        }
        loop {
            let (request, changed) = network.watching.book().poll(network.context.now());
            if changed {
                network.context.changed(Topic::State);
            }
            let Some((request, from)) = request else { break };
            tokio::spawn(ask(network.clone(), request, from));
        }
    }
    farewells(network).await;
}

/// Ends what is subscribed at: nobody shall go on sending here.
async fn farewells(network: Arc<Network>) {
    let mut tasks = tokio::task::JoinSet::new();
    {
        let mut book = network.watching.book();
        let now = network.context.now();
        book.services.values_mut().for_each(|service| service.until = now);
        while let (Some((request, from)), _) = book.poll(now) {
            tasks.spawn(ask(network.clone(), request, from));
        }
    }
    let _ = tokio::time::timeout(FAREWELLS, tasks.join_all()).await;
}

/// Sends a request and reports how it went.
async fn ask(network: Arc<Network>, request: SubscriptionRequest, from: Ipv4Addr) {
    let id = request.id;
    let farewell = matches!(request.ask, Ask::Unsubscribe { .. });
    // A house that is off, or has left that network, says nothing there any more.
    let is_served = network.served().iter().any(|served| served.address == from);
    let outcome = match is_served {
        true => send(&network, request, from).await,
        false => Err("this house is not in that network any more".to_owned()),
    };
    let watching = &network.watching;
    let now = network.context.now();
    if !farewell {
        let mut book = watching.book();
        match outcome {
            Ok((sid, timeout)) => {
                book.subscriber.granted(now, id, &sid, timeout);
                if let Some(service) = book.services.get_mut(&id) {
                    service.state.phase = SubscriptionPhase::Granted;
                }
            }
            Err(why) => {
                book.subscriber.failed(now, id);
                if let Some(service) = book.services.get_mut(&id) {
                    service.state.phase = SubscriptionPhase::Failed(why);
                }
            }
        }
        drop(book);
        network.context.changed(Topic::State);
    }
    watching.due.notify_one();
}

/// Gives the SID and for how long it was granted, or why it was not.
async fn send(
    network: &Network,
    request: SubscriptionRequest,
    from: Ipv4Addr,
) -> Result<(String, Option<Duration>), String> {
    let options = HttpOptions {
        from: Some(from.into()),
        user_agent: Some(server_field()),
        ..HttpOptions::default()
    };
    let client = Client::new(&BOUNDS, &options).map_err(|error| error.to_string())?;
    let seconds = |timeout: Duration| format!("Second-{}", timeout.as_secs());
    let (method, fields) = match &request.ask {
        Ask::Subscribe { path, timeout } => {
            let callback = format!("<http://{from}:{}{path}>", network.device_port());
            let fields = vec![
                ("CALLBACK", callback),
                ("NT", "upnp:event".to_owned()),
                ("TIMEOUT", seconds(*timeout)),
            ];
            ("SUBSCRIBE", fields)
        }
        Ask::Renew { sid, timeout } => {
            ("SUBSCRIBE", vec![("SID", sid.clone()), ("TIMEOUT", seconds(*timeout))])
        }
        Ask::Unsubscribe { sid } => ("UNSUBSCRIBE", vec![("SID", sid.clone())]),
    };
    let fields: Vec<(&str, &str)> = fields.iter().map(|(name, value)| (*name, &**value)).collect();
    let method = Method::from_bytes(method.as_bytes()).map_err(|error| error.to_string())?;
    let answer = client.send(method, &request.url, &fields, "").await;
    let answer = answer.map_err(|error| error.to_string())?;
    if !answer.status().is_success() {
        return Err(http::RequestError::Status(answer.status()).to_string());
    }
    let field = |name: &str| answer.headers().get(name).and_then(|value| value.to_str().ok());
    read_granted(field("sid"), field("timeout"))
        .ok_or_else(|| "it grants a subscription without a SID".to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(seconds: u64) -> Moment {
        Moment::from_secs(seconds)
    }

    fn book() -> WatchBook {
        let mut book = WatchBook::default();
        let service = WatchedService {
            place: (FoundId(1), 0),
            host: Ipv4Addr::new(192, 0, 2, 7),
            url: "http://192.0.2.7/ev".into(),
            path: "/heard/1".into(),
            from: Ipv4Addr::new(192, 0, 2, 1),
            until: at(30),
            anew: at(0),
            state: ServiceState::default(),
        };
        book.services.insert(0, service);
        book.subscribe(at(0), 0);
        book
    }

    #[test]
    fn a_subscription_ends_when_nobody_looks_any_more() {
        let mut book = book();
        let (request, _) = book.poll(at(0));
        assert!(matches!(request.unwrap().0.ask, Ask::Subscribe { .. }));
        book.subscriber.granted(at(0), 0, "uuid:s", None);
        assert!(book.poll(at(29)).0.is_none());
        let (request, from) = book.poll(at(30)).0.unwrap();
        assert_eq!(request.ask, Ask::Unsubscribe { sid: "uuid:s".into() });
        assert_eq!(from, Ipv4Addr::new(192, 0, 2, 1), "it leaves as it came");
        assert!(book.services.is_empty() && book.leaving.is_empty());
        assert_eq!(book.next_deadline(), None);
    }

    #[test]
    fn missed_events_have_it_subscribed_anew_and_not_without_pause() {
        let mut book = book();
        book.services.get_mut(&0).unwrap().until = at(1000);
        let mut subscribed = 0;
        for second in 0..60 {
            while let Some((request, _)) = book.poll(at(second)).0 {
                if matches!(request.ask, Ask::Subscribe { .. }) {
                    subscribed += 1;
                    book.subscriber.granted(at(second), 0, "uuid:s", None);
                }
            }
            // A publisher that leaves out every other event.
            let notification = Notification {
                path: "/heard/1",
                source: Ipv4Addr::new(192, 0, 2, 7),
                nt: Some("upnp:event"),
                nts: Some("upnp:propchange"),
                sid: Some("uuid:s"),
                seq: Some(2 * u32::try_from(second).unwrap()),
            };
            assert_eq!(book.subscriber.notify(at(second), notification, Vec::new()), 200);
        }
        assert_eq!(subscribed, 2, "once in thirty seconds");
        assert!(book.services[&0].state.missed > 50);
    }
}
