//! A control point's subscriptions as a state machine without sockets.

use std::collections::{BTreeMap, VecDeque};
use std::net::Ipv4Addr;
use std::time::Duration;

use crate::Moment;

/// The time that is asked for, and what a granted `infinite` counts as (GENA-20).
const ASKED: Duration = Duration::from_secs(1800);
/// The shortest time between two renewals (GENA-20).
const SHORTEST: Duration = Duration::from_secs(30);
/// How long after a failure it is tried again: at first, and at most (GENA-20).
const BACK_OFF: (Duration, Duration) = (Duration::from_secs(5), Duration::from_secs(300));
/// How long an event is kept that came before the answer to SUBSCRIBE (GENA-21).
const EARLY: Duration = Duration::from_secs(5);
/// Such events kept of one subscription.
const EARLY_EVENTS: usize = 4;
/// When events count as not working, as not even the first came (GENA-28).
const SILENT: Duration = Duration::from_secs(10);

/// What is asked of a publisher.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Ask {
    /// SUBSCRIBE with a callback of this path.
    Subscribe {
        /// The path of the callback.
        path: String,
        /// For how long.
        timeout: Duration,
    },
    /// SUBSCRIBE with a SID.
    Renew {
        /// The subscription.
        sid: String,
        /// For how long.
        timeout: Duration,
    },
    /// UNSUBSCRIBE. Its outcome is not reported.
    Unsubscribe {
        /// The subscription.
        sid: String,
    },
}

/// A request to send. Of [`Ask::Subscribe`] and [`Ask::Renew`], report back with
/// [`Subscriber::granted`] or [`Subscriber::failed`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SubscriptionRequest {
    /// The caller's number of the subscription.
    pub id: u32,
    /// Where to.
    pub url: String,
    /// What is asked.
    pub ask: Ask,
}

/// A NOTIFY as it came.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Notification<'a> {
    /// The path that it came to.
    pub path: &'a str,
    /// Who sent it.
    pub source: Ipv4Addr,
    /// `NT`.
    pub nt: Option<&'a str>,
    /// `NTS`.
    pub nts: Option<&'a str>,
    /// `SID`.
    pub sid: Option<&'a str>,
    /// `SEQ`.
    pub seq: Option<u32>,
}

/// What there is to know of a subscription.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Notice {
    /// An event came; its variables are to be merged into what is known (GENA-25).
    Event {
        /// The subscription.
        id: u32,
        /// The variables.
        variables: Vec<(String, String)>,
    },
    /// Events were missed: all of the state is to be asked for (GENA-23).
    Missed {
        /// The subscription.
        id: u32,
    },
    /// No event comes: the state is to be asked for from time to time (GENA-28).
    Silent {
        /// The subscription.
        id: u32,
    },
}

#[derive(Debug)]
enum Phase {
    /// Not subscribed; to be tried at a time.
    Idle(Moment),
    /// SUBSCRIBE is on its way.
    Asking,
    /// Granted; to be renewed at a time.
    Granted(String, Moment),
    /// A renewal is on its way.
    Renewing(String),
}

#[derive(Debug)]
struct EarlyEvent {
    sid: String,
    seq: u32,
    variables: Vec<(String, String)>,
    at: Moment,
}

#[derive(Debug)]
struct HeldSubscription {
    url: String,
    host: Ipv4Addr,
    path: String,
    phase: Phase,
    wait: Duration,
    /// The event that comes next; `None` until the first.
    next: Option<u32>,
    /// By when the first event must have come.
    silent_at: Option<Moment>,
    /// Events that came before their SID was known.
    early: Vec<EarlyEvent>,
}

/// Keeps subscriptions at publishers alive and takes their events.
///
/// Send what [`poll_output`](Self::poll_output) gives, hand in each NOTIFY by
/// [`notify`](Self::notify), and come back at [`next_deadline`](Self::next_deadline).
#[derive(Debug, Default)]
pub struct Subscriber {
    subscriptions: BTreeMap<u32, HeldSubscription>,
    farewells: VecDeque<SubscriptionRequest>,
    notices: VecDeque<Notice>,
}

impl Subscriber {
    /// Subscribes at the URL of a publisher on `host`. Events come to `path`, which nobody else
    /// can guess (GENA-19).
    pub fn add(&mut self, now: Moment, id: u32, host: Ipv4Addr, url: String, path: String) {
        self.remove(id);
        let subscription = HeldSubscription {
            url,
            host,
            path,
            phase: Phase::Idle(now),
            wait: BACK_OFF.0,
            next: None,
            silent_at: None,
            early: Vec::new(),
        };
        self.subscriptions.insert(id, subscription);
    }

    /// Ends a subscription.
    pub fn remove(&mut self, id: u32) {
        let Some(gone) = self.subscriptions.remove(&id) else { return };
        if let Phase::Granted(sid, _) | Phase::Renewing(sid) = gone.phase {
            let ask = Ask::Unsubscribe { sid };
            self.farewells.push_back(SubscriptionRequest { id, url: gone.url, ask });
        }
    }

    /// Ends all of them (GENA-27).
    pub fn stop(&mut self) {
        for id in self.subscriptions.keys().copied().collect::<Vec<_>>() {
            self.remove(id);
        }
    }

    /// The publisher started anew and knows of nothing: it is subscribed at again (SCP-10).
    pub fn publisher_rebooted(&mut self, now: Moment, id: u32) {
        if let Some(subscription) = self.subscriptions.get_mut(&id) {
            subscription.phase = Phase::Idle(now);
            subscription.next = None;
        }
    }

    /// A SUBSCRIBE or a renewal was granted, for so long; `None` for `infinite` and for what
    /// cannot be read.
    pub fn granted(&mut self, now: Moment, id: u32, sid: &str, timeout: Option<Duration>) {
        let Some(subscription) = self.subscriptions.get_mut(&id) else { return };
        let renew_at = now + (timeout.unwrap_or(ASKED) / 2).max(SHORTEST);
        let is_new = matches!(subscription.phase, Phase::Asking);
        subscription.phase = Phase::Granted(sid.to_owned(), renew_at);
        subscription.wait = BACK_OFF.0;
        if !is_new {
            return;
        }
        subscription.next = None;
        subscription.silent_at = Some(now + SILENT);
        let early = std::mem::take(&mut subscription.early);
        for event in early {
            if event.sid == sid && now.since(event.at) < EARLY {
                self.take(id, event.seq, event.variables);
            }
        }
    }

    /// A SUBSCRIBE or a renewal failed.
    pub fn failed(&mut self, now: Moment, id: u32) {
        let Some(subscription) = self.subscriptions.get_mut(&id) else { return };
        match subscription.phase {
            // What was granted may be gone: subscribed anew at once.
            Phase::Renewing(_) => subscription.phase = Phase::Idle(now),
            _ => {
                subscription.phase = Phase::Idle(now + subscription.wait);
                subscription.wait = (subscription.wait * 2).min(BACK_OFF.1);
            }
        }
    }

    /// Takes a NOTIFY with its variables, and gives the status to answer (GENA-22).
    pub fn notify(
        &mut self,
        now: Moment,
        notification: Notification<'_>,
        variables: Vec<(String, String)>,
    ) -> u16 {
        let Notification { path, source, nt, nts, sid, seq } = notification;
        let found = self.subscriptions.iter_mut().find(|(_, s)| s.path == path);
        let Some((id, subscription)) = found else { return 412 };
        let id = *id;
        if subscription.host != source {
            return 403;
        }
        if nt.map(str::trim) != Some("upnp:event") || nts.map(str::trim) != Some("upnp:propchange")
        {
            return 400;
        }
        let (Some(sid), Some(seq)) = (sid.map(str::trim), seq) else { return 412 };
        match &subscription.phase {
            Phase::Asking => {
                if subscription.early.len() < EARLY_EVENTS {
                    let sid = sid.to_owned();
                    subscription.early.push(EarlyEvent { sid, seq, variables, at: now });
                }
                200
            }
            Phase::Granted(known, _) | Phase::Renewing(known) if known == sid => {
                self.take(id, seq, variables);
                200
            }
            _ => 412,
        }
    }

    fn take(&mut self, id: u32, seq: u32, variables: Vec<(String, String)>) {
        let Some(subscription) = self.subscriptions.get_mut(&id) else { return };
        match subscription.next {
            None => {}
            Some(next) if seq == next => {}
            // One that was taken already, or older.
            Some(next) if seq < next && seq != 0 => return,
            Some(_) => self.notices.push_back(Notice::Missed { id }),
        }
        // It wraps to 1, never to 0 (GENA-11).
        subscription.next = Some(seq.checked_add(1).unwrap_or(1));
        subscription.silent_at = None;
        self.notices.push_back(Notice::Event { id, variables });
    }

    /// The next request that is due, if any.
    pub fn poll_output(&mut self, now: Moment) -> Option<SubscriptionRequest> {
        if let Some(farewell) = self.farewells.pop_front() {
            return Some(farewell);
        }
        for (id, subscription) in &mut self.subscriptions {
            let ask = match &subscription.phase {
                Phase::Idle(at) if *at <= now => {
                    subscription.phase = Phase::Asking;
                    subscription.early.clear();
                    Ask::Subscribe { path: subscription.path.clone(), timeout: ASKED }
                }
                Phase::Granted(sid, at) if *at <= now => {
                    let sid = sid.clone();
                    subscription.phase = Phase::Renewing(sid.clone());
                    Ask::Renew { sid, timeout: ASKED }
                }
                _ => continue,
            };
            return Some(SubscriptionRequest { id: *id, url: subscription.url.clone(), ask });
        }
        None
    }

    /// The next thing to know, if any.
    pub fn poll_notice(&mut self, now: Moment) -> Option<Notice> {
        for (id, subscription) in &mut self.subscriptions {
            if subscription.silent_at.is_some_and(|at| at <= now) {
                subscription.silent_at = None;
                self.notices.push_back(Notice::Silent { id: *id });
            }
        }
        self.notices.pop_front()
    }

    /// When there is something to do next.
    pub fn next_deadline(&self) -> Option<Moment> {
        let phases = self.subscriptions.values().filter_map(|s| match s.phase {
            Phase::Idle(at) | Phase::Granted(_, at) => Some(at),
            Phase::Asking | Phase::Renewing(_) => None,
        });
        let silences = self.subscriptions.values().filter_map(|s| s.silent_at);
        phases.chain(silences).min()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HOST: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 7);
    const URL: &str = "http://192.0.2.7/ev";

    fn at(seconds: u64) -> Moment {
        Moment::from_secs(seconds)
    }

    fn event(seq: u32) -> Notification<'static> {
        Notification {
            path: "/e/1",
            source: HOST,
            nt: Some("upnp:event"),
            nts: Some("upnp:propchange"),
            sid: Some("uuid:s"),
            seq: Some(seq),
        }
    }

    fn subscriber() -> Subscriber {
        let mut subscriber = Subscriber::default();
        subscriber.add(at(0), 1, HOST, URL.into(), "/e/1".into());
        let asked = subscriber.poll_output(at(0)).unwrap();
        let expected = Ask::Subscribe { path: "/e/1".into(), timeout: ASKED };
        assert_eq!((asked.id, &*asked.url, asked.ask), (1, URL, expected));
        subscriber
    }

    fn notices(subscriber: &mut Subscriber, now: Moment) -> Vec<Notice> {
        std::iter::from_fn(|| subscriber.poll_notice(now)).collect()
    }

    fn told(value: &str) -> Vec<(String, String)> {
        vec![("Volume".into(), value.into())]
    }

    #[test]
    fn it_is_renewed_at_half_time_and_asked_for_anew_after_a_failure() {
        let mut subscriber = subscriber();
        subscriber.granted(at(1), 1, "uuid:s", Some(Duration::from_secs(600)));
        subscriber.notify(at(1), event(0), told("1"));
        assert_eq!(subscriber.next_deadline(), Some(at(301)));
        assert_eq!(subscriber.poll_output(at(300)), None);
        let renewal = subscriber.poll_output(at(301)).unwrap();
        assert_eq!(renewal.ask, Ask::Renew { sid: "uuid:s".into(), timeout: ASKED });
        subscriber.failed(at(302), 1);
        let anew = subscriber.poll_output(at(302)).unwrap();
        assert!(matches!(anew.ask, Ask::Subscribe { .. }));
        // And then further and further apart.
        let mut waits = Vec::new();
        let mut now = at(302);
        for _ in 0..8 {
            subscriber.failed(now, 1);
            let next = subscriber.next_deadline().unwrap();
            waits.push((next - now).as_secs());
            now = next;
            assert!(subscriber.poll_output(now).is_some());
        }
        assert_eq!(waits, [5, 10, 20, 40, 80, 160, 300, 300]);
        subscriber.granted(now, 1, "uuid:t", None);
        let infinite = now + Duration::from_secs(900);
        subscriber.poll_notice(now + SILENT);
        assert_eq!(subscriber.next_deadline(), Some(infinite), "infinite counts as 1800 s");
        subscriber.remove(1);
        let farewell = subscriber.poll_output(now).unwrap();
        assert_eq!(farewell.ask, Ask::Unsubscribe { sid: "uuid:t".into() });
        assert_eq!((subscriber.poll_output(now), subscriber.next_deadline()), (None, None));
    }

    #[test]
    fn an_event_may_come_before_the_answer() {
        let mut subscriber = subscriber();
        assert_eq!(subscriber.notify(at(1), event(0), told("1")), 200);
        assert_eq!(notices(&mut subscriber, at(1)), []);
        subscriber.granted(at(2), 1, "uuid:s", None);
        let first = Notice::Event { id: 1, variables: told("1") };
        assert_eq!(notices(&mut subscriber, at(2)), [first]);
        // What waited too long, or is of another subscription, counts for nothing.
        let mut late = self::subscriber();
        late.notify(at(1), event(0), told("1"));
        late.notify(at(9), Notification { sid: Some("uuid:other"), ..event(0) }, told("2"));
        late.granted(at(9), 1, "uuid:s", None);
        assert_eq!(notices(&mut late, at(9)), []);
    }

    #[test]
    fn gaps_are_told_and_repetitions_passed_over() {
        let mut subscriber = subscriber();
        subscriber.granted(at(0), 1, "uuid:s", None);
        for seq in [0, 1, 1, 0, 3, 2] {
            assert_eq!(subscriber.notify(at(1), event(seq), told(&seq.to_string())), 200);
        }
        let told: Vec<String> = notices(&mut subscriber, at(1))
            .into_iter()
            .map(|notice| match notice {
                Notice::Event { variables, .. } => variables[0].1.clone(),
                Notice::Missed { .. } => "missed".into(),
                Notice::Silent { .. } => "silent".into(),
            })
            .collect();
        // A second 0 is that of a publisher which started anew; what came before it was missed.
        assert_eq!(told, ["0", "1", "missed", "0", "missed", "3"]);
    }

    #[test]
    fn others_are_refused() {
        let mut subscriber = subscriber();
        subscriber.granted(at(0), 1, "uuid:s", None);
        let mut status = |notification| subscriber.notify(at(1), notification, told("1"));
        assert_eq!(status(Notification { path: "/e/2", ..event(0) }), 412);
        assert_eq!(status(Notification { source: Ipv4Addr::LOCALHOST, ..event(0) }), 403);
        assert_eq!(status(Notification { nt: None, ..event(0) }), 400);
        assert_eq!(status(Notification { nts: Some("ssdp:alive"), ..event(0) }), 400);
        assert_eq!(status(Notification { sid: Some("uuid:x"), ..event(0) }), 412);
        assert_eq!(status(Notification { seq: None, ..event(0) }), 412);
        assert_eq!(notices(&mut subscriber, at(9)), []);
    }

    #[test]
    fn events_that_do_not_come_are_told_of_once() {
        let mut subscriber = subscriber();
        subscriber.granted(at(0), 1, "uuid:s", None);
        assert_eq!(subscriber.next_deadline(), Some(at(10)));
        assert_eq!(notices(&mut subscriber, at(10)), [Notice::Silent { id: 1 }]);
        assert_eq!(notices(&mut subscriber, at(60)), []);
        subscriber.publisher_rebooted(at(60), 1);
        assert!(matches!(subscriber.poll_output(at(60)).unwrap().ask, Ask::Subscribe { .. }));
        subscriber.stop();
        assert_eq!(subscriber.poll_output(at(61)), None, "there is nothing to end");
    }
}
