//! The publisher's subscriptions as a state machine without sockets.

use std::collections::{BTreeMap, HashMap};
use std::net::{Ipv4Addr, SocketAddrV4};
use std::time::Duration;

use crate::Moment;
use crate::model::service::OwnService;

/// Who subscribes, and where events go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Receiver {
    /// The address the SUBSCRIBE came from.
    pub source: Ipv4Addr,
    /// Checked callbacks, in the order to try.
    pub callbacks: Vec<(SocketAddrV4, String)>,
    /// Whether it is let in. Those who are not have a few places, which others may take.
    pub admitted: bool,
}

/// A subscription granted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Granted {
    /// `uuid:…`.
    pub sid: String,
    /// For how long.
    pub timeout: Duration,
}

/// Why a SUBSCRIBE or UNSUBSCRIBE fails.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Refusal {
    /// 412: no usable callback, or an unknown SID.
    Precondition,
    /// 503: limits reached.
    TooMany,
}

/// An event to deliver. Report back with [`Publisher::delivered`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EventDelivery {
    /// The subscription.
    pub sid: String,
    /// The service.
    pub service: OwnService,
    /// The address that subscribed.
    pub source: Ipv4Addr,
    /// Where to, in the order to try.
    pub callbacks: Vec<(SocketAddrV4, String)>,
    /// The event's number.
    pub seq: u32,
    /// The variables.
    pub variables: Vec<(String, String)>,
}

/// How a delivery went.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DeliveryOutcome {
    /// Accepted.
    Done,
    /// The subscriber does not know the SID any more (412).
    Gone,
    /// Not reached, or another answer.
    Failed,
}

/// The shortest time between two events to one subscriber (GENA-13).
const MODERATION: Duration = Duration::from_millis(200);
/// From the answer to the initial event, so that the answer is out first (GENA-3).
const INITIAL_DELAY: Duration = Duration::from_millis(100);
/// Subscriptions per service (GENA-9).
const PER_SERVICE: usize = 64;
/// Of these, those of subscribers that are not let in (SEC-12).
const PER_SERVICE_OUTSIDE: usize = 16;
/// Subscriptions per source address (GENA-9).
const PER_SOURCE: usize = 8;
/// Failures in a row that end a subscription (GENA-15).
const FAILURES: u32 = 5;

#[derive(Debug)]
struct Subscription {
    service: OwnService,
    subscriber: Receiver,
    expires: Moment,
    seq: u32,
    /// Variables that changed since the last event, merged by name.
    changed: BTreeMap<String, String>,
    /// Containers that changed since the last event, with their update ids.
    containers: BTreeMap<String, u32>,
    /// The earliest time of the next event.
    not_before: Moment,
    in_flight: bool,
    failures: u32,
    /// The one that ends with this one's initial event.
    replaces: Option<String>,
}

/// Keeps subscriptions and hands out one event at a time for each.
///
/// [`subscribe`](Self::subscribe) queues the initial event, [`change`](Self::change) queues
/// changes; [`poll_output`](Self::poll_output) gives what is due. A slow subscriber has at most
/// one event in flight and delays nobody else (GENA-14).
#[derive(Debug, Default)]
pub struct Publisher {
    subscriptions: HashMap<String, Subscription>,
}

/// Pairs of container and update id in one event (CDS-49).
pub(super) const PAIRS: usize = 500;
/// Containers kept for a subscription's next events.
const MOST_CONTAINERS: usize = 20_000;

impl Subscription {
    fn has_news(&self) -> bool {
        !self.changed.is_empty() || !self.containers.is_empty()
    }
}

impl Publisher {
    /// No subscriptions yet.
    pub fn new() -> Self {
        Self::default()
    }

    /// Subscriptions alive.
    pub fn len(&self) -> usize {
        self.subscriptions.len()
    }

    /// Whether nobody subscribes.
    pub fn is_empty(&self) -> bool {
        self.subscriptions.is_empty()
    }

    /// Adds a subscription whose initial event holds all `variables` of the service (GENA-3).
    /// `sid` is a fresh `uuid:…`. The same callback and service anew replaces the old one, once
    /// the new initial event is on its way (GENA-9).
    ///
    /// # Errors
    /// [`Refusal::Precondition`] without a usable callback, [`Refusal::TooMany`] at the limits.
    pub fn subscribe(
        &mut self,
        now: Moment,
        sid: String,
        service: OwnService,
        subscriber: Receiver,
        timeout: Duration,
        variables: Vec<(&'static str, String)>,
    ) -> Result<Granted, Refusal> {
        if subscriber.callbacks.is_empty() {
            return Err(Refusal::Precondition);
        }
        self.expire(now);
        // What it replaces is not counted, and of several that are still to be replaced only the
        // last stays.
        let same = |s: &Subscription| {
            s.service == service && s.subscriber.callbacks == subscriber.callbacks
        };
        let replaced = self.subscriptions.iter().find(|(_, s)| same(s) && s.replaces.is_none());
        let replaced = replaced.map(|(sid, _)| sid.clone());
        self.subscriptions.retain(|sid, s| !same(s) || Some(sid) == replaced.as_ref());
        let others = || {
            let others = self.subscriptions.iter();
            others.filter(|(sid, _)| Some(*sid) != replaced.as_ref()).map(|(_, s)| s)
        };
        let of_service = others().filter(|s| s.service == service);
        let (admitted, outside): (Vec<_>, Vec<_>) = of_service.partition(|s| s.subscriber.admitted);
        let of_source = others().filter(|s| s.subscriber.source == subscriber.source).count();
        let full = admitted.len() + outside.len() >= PER_SERVICE;
        if of_source >= PER_SOURCE
            || !subscriber.admitted && (full || outside.len() >= PER_SERVICE_OUTSIDE)
            || full && outside.is_empty()
        {
            return Err(Refusal::TooMany);
        }
        if full {
            // Whoever is let in takes the place of one who is not.
            let outside = |s: &Subscription| s.service == service && !s.subscriber.admitted;
            let first = self.subscriptions.iter().filter(|(_, s)| outside(s));
            let first = first.min_by_key(|(_, s)| s.expires).map(|(sid, _)| sid.clone());
            first.map(|sid| self.subscriptions.remove(&sid));
        }
        let subscription = Subscription {
            service,
            subscriber,
            expires: now + timeout,
            seq: 0,
            changed: variables.into_iter().map(|(n, v)| (n.to_owned(), v)).collect(),
            containers: BTreeMap::new(),
            not_before: now + INITIAL_DELAY,
            in_flight: false,
            failures: 0,
            replaces: replaced,
        };
        self.subscriptions.insert(sid.clone(), subscription);
        Ok(Granted { sid, timeout })
    }

    /// Extends a subscription (GENA-4).
    ///
    /// # Errors
    /// [`Refusal::Precondition`] for an unknown or expired SID, or one of another source.
    pub fn renew(
        &mut self,
        now: Moment,
        sid: &str,
        source: Ipv4Addr,
        timeout: Duration,
    ) -> Result<Granted, Refusal> {
        self.expire(now);
        let found = self.subscriptions.get_mut(sid).filter(|s| s.subscriber.source == source);
        let subscription = found.ok_or(Refusal::Precondition)?;
        subscription.expires = now + timeout;
        Ok(Granted { sid: sid.to_owned(), timeout })
    }

    /// Ends a subscription (GENA-5).
    ///
    /// # Errors
    /// [`Refusal::Precondition`] for an unknown SID, or one of another source.
    pub fn unsubscribe(&mut self, now: Moment, sid: &str, source: Ipv4Addr) -> Result<(), Refusal> {
        self.expire(now);
        if self.subscriptions.get(sid).is_none_or(|s| s.subscriber.source != source) {
            return Err(Refusal::Precondition);
        }
        self.subscriptions.remove(sid);
        Ok(())
    }

    /// The source addresses that subscribe to a service, each once.
    pub fn sources(&self, service: OwnService) -> Vec<Ipv4Addr> {
        let of_service = self.subscriptions.values().filter(|s| s.service == service);
        let mut sources: Vec<_> = of_service.map(|s| s.subscriber.source).collect();
        sources.sort();
        sources.dedup();
        sources
    }

    /// Variables changed for the subscribers of a service at one source address.
    pub fn change(&mut self, service: OwnService, source: Ipv4Addr, variables: &[(&str, String)]) {
        for subscription in self.subscriptions.values_mut() {
            if subscription.service == service && subscription.subscriber.source == source {
                for (name, value) in variables {
                    subscription.changed.insert((*name).to_owned(), value.clone());
                }
            }
        }
    }

    /// Containers changed as one source address sees them, with their update ids. Each is told
    /// once, with its latest id, and at most 500 in one event; the rest follow (CDS-49).
    pub fn change_containers(
        &mut self,
        source: Ipv4Addr,
        containers: impl IntoIterator<Item = (String, u32)> + Clone,
    ) {
        for subscription in self.subscriptions.values_mut() {
            if subscription.service == OwnService::ContentDirectory
                && subscription.subscriber.source == source
            {
                subscription.containers.extend(containers.clone());
                // Beyond this many, nobody reads single ones: the root says it all.
                if subscription.containers.len() > MOST_CONTAINERS {
                    let root = subscription.containers.get("0").copied().unwrap_or_default();
                    let newest = subscription.containers.values().copied().max();
                    subscription.containers.clear();
                    subscription.containers.insert("0".into(), newest.unwrap_or(root));
                }
            }
        }
    }

    /// The next event that is due, if any.
    pub fn poll_output(&mut self, now: Moment) -> Option<EventDelivery> {
        self.expire(now);
        let due = |s: &&mut Subscription| !s.in_flight && s.has_news() && s.not_before <= now;
        let (sid, subscription) = self.subscriptions.iter_mut().find(|(_, s)| due(s))?;
        let seq = subscription.seq;
        // SEQ wraps to 1, never to 0 (GENA-11).
        subscription.seq = seq.checked_add(1).unwrap_or(1);
        let replaced = subscription.replaces.take();
        subscription.in_flight = true;
        subscription.not_before = now + MODERATION;
        let mut variables: Vec<(String, String)> =
            std::mem::take(&mut subscription.changed).into_iter().collect();
        if !subscription.containers.is_empty() {
            let rest = match subscription.containers.keys().nth(PAIRS).cloned() {
                Some(first) => subscription.containers.split_off(&first),
                None => BTreeMap::new(),
            };
            let told = std::mem::replace(&mut subscription.containers, rest);
            let pairs: Vec<String> = told.iter().map(|(id, n)| format!("{id},{n}")).collect();
            variables.retain(|(name, _)| name != "ContainerUpdateIDs");
            variables.push(("ContainerUpdateIDs".into(), pairs.join(",")));
        }
        let delivery = EventDelivery {
            sid: sid.clone(),
            service: subscription.service,
            source: subscription.subscriber.source,
            callbacks: subscription.subscriber.callbacks.clone(),
            seq,
            variables,
        };
        replaced.map(|sid| self.subscriptions.remove(&sid));
        Some(delivery)
    }

    /// Ends the subscriptions that a decision does not cover any more, and notes who is let in:
    /// `of` says of a source address whether it is, and `None` for one that may have none.
    pub fn decide(&mut self, of: impl Fn(Ipv4Addr) -> Option<bool>) {
        self.subscriptions.retain(|_, s| match of(s.subscriber.source) {
            Some(admitted) => {
                s.subscriber.admitted = admitted;
                true
            }
            None => false,
        });
    }

    /// Takes the outcome of a delivery; it is not tried again (GENA-15).
    pub fn delivered(&mut self, sid: &str, outcome: DeliveryOutcome) {
        let Some(subscription) = self.subscriptions.get_mut(sid) else { return };
        subscription.in_flight = false;
        match outcome {
            DeliveryOutcome::Done => subscription.failures = 0,
            DeliveryOutcome::Failed => subscription.failures += 1,
            DeliveryOutcome::Gone => subscription.failures = FAILURES,
        }
        if subscription.failures >= FAILURES {
            self.subscriptions.remove(sid);
        }
    }

    /// When [`poll_output`](Self::poll_output) may have something next.
    pub fn next_deadline(&self) -> Option<Moment> {
        let waiting = self.subscriptions.values().filter(|s| !s.in_flight && s.has_news());
        let events = waiting.map(|s| s.not_before).min();
        let expiry = self.subscriptions.values().map(|s| s.expires).min();
        [events, expiry].into_iter().flatten().min()
    }

    fn expire(&mut self, now: Moment) {
        self.subscriptions.retain(|_, s| s.expires > now);
    }
}

#[cfg(test)]
mod tests;
