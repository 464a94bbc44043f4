//! What systemd is told of the service (sd_notify(3)): that it is ready, one line of how it is, and
//! that it lives. Without systemd nobody is told anything.

use std::sync::Arc;
use std::time::Duration;

use mostra_app::Context;
use mostra_app::devices::Devices;
use mostra_app::network::Network;
use mostra_app::streams::Streams;
use mostra_core::access::Standing;
use sd_notify::NotifyState;
use tokio::sync::broadcast::error::RecvError;
use tokio::time::Instant;

/// How long many changes are taken as one.
const SETTLE: Duration = Duration::from_secs(1);

/// Whether somebody is told.
pub(crate) fn is_there() -> bool {
    std::env::var_os("NOTIFY_SOCKET").is_some()
}

fn tell(states: &[NotifyState<'_>]) {
    if let Err(error) = sd_notify::notify(states) {
        tracing::debug!("systemd is not told: {error}");
    }
}

/// The service waits for something before it is ready, for at least so long.
pub(crate) fn waits(what: &str, patience: Duration) {
    let patience = u32::try_from(patience.as_micros()).unwrap_or(u32::MAX);
    // A service that started itself again is watched already.
    let extend = NotifyState::ExtendTimeoutUsec(patience);
    tell(&[NotifyState::Status(what), extend, NotifyState::Watchdog]);
}

/// The same for as long as something takes.
pub(crate) async fn waits_for<T>(what: &str, work: impl Future<Output = T>) -> T {
    let mut look = tokio::time::interval(Duration::from_secs(10));
    tokio::pin!(work);
    loop {
        tokio::select! {
            done = &mut work => return done,
            _ = look.tick() => waits(what, Duration::from_secs(60)),
        }
    }
}

/// Players reach the house, or it is off as somebody wants it.
pub(crate) fn ready() {
    tell(&[NotifyState::Ready]);
}

/// The service takes its leave.
pub(crate) fn stopping() {
    tell(&[NotifyState::Stopping, NotifyState::Status("taking leave of the players")]);
}

/// What the line of status is made of.
pub(crate) struct StatusParts {
    /// What changes.
    pub(crate) context: Context,
    /// The house's name, and whether it is on.
    pub(crate) network: Arc<Network>,
    /// Who is in, and who waits.
    pub(crate) devices: Arc<Devices>,
    /// Who watches.
    pub(crate) streams: Arc<Streams>,
}

impl StatusParts {
    /// Tells how the house is whenever that changes, and in time that the service lives.
    pub(crate) async fn run(self) {
        if !is_there() {
            return;
        }
        let mut changes = self.context.changes();
        // Twice in each period, so that one that is late does no harm.
        let every = sd_notify::watchdog_enabled().map_or(Duration::from_secs(3600), |d| d / 2);
        let mut alive = tokio::time::interval(every);
        alive.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut told = String::new();
        let mut due = Some(Instant::now());
        loop {
            let settled = async {
                match due {
                    Some(due) => tokio::time::sleep_until(due).await,
                    None => std::future::pending().await,
                }
            };
            tokio::select! {
                _ = alive.tick() => tell(&[NotifyState::Watchdog]),
                () = settled => {
                    due = None;
                    let now = self.line();
                    if now != told {
                        tell(&[NotifyState::Status(&now)]);
                        told = now;
                    }
                }
                change = changes.recv() => match change {
                    Ok(_) | Err(RecvError::Lagged(_)) => {
                        due.get_or_insert_with(|| Instant::now() + SETTLE);
                    }
                    Err(RecvError::Closed) => return,
                },
            }
        }
    }

    fn line(&self) -> String {
        let count =
            |standing| self.devices.book().iter().filter(|d| d.standing == standing).count();
        line(
            &self.network.name(),
            self.network.off().is_none(),
            count(Standing::Admitted),
            count(Standing::Waiting),
            self.streams.book().count(),
        )
    }
}

/// How the house is, in one line.
fn line(name: &str, on: bool, admitted: usize, waiting: usize, streams: usize) -> String {
    let counted = |n: usize, word: &str| {
        if n == 1 { format!("1 {word}") } else { format!("{n} {word}s") }
    };
    format!(
        "{name} is {}; {} admitted, {waiting} waiting; {}",
        if on { "on" } else { "off" },
        counted(admitted, "device"),
        counted(streams, "stream")
    )
}

#[cfg(test)]
mod tests {
    use super::line;

    #[test]
    fn one_line_says_how_the_house_is() {
        let told = line("Pellworth Light", true, 2, 1, 1);
        assert_eq!(told, "Pellworth Light is on; 2 devices admitted, 1 waiting; 1 stream");
        let told = line("Pellworth Light", false, 1, 0, 0);
        assert_eq!(told, "Pellworth Light is off; 1 device admitted, 0 waiting; 0 streams");
    }
}
