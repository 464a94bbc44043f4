//! When parts of the service that end by themselves are a reason to start all of it again.

use std::collections::VecDeque;
use std::time::Duration;

use mostra_protocol::Moment;

/// How many endings within which time are too many.
const MANY: usize = 3;
const WITHIN: Duration = Duration::from_secs(600);

/// Endings of the last minutes.
#[derive(Debug, Default)]
pub struct Endings(VecDeque<Moment>);

impl Endings {
    /// Notes that a part ended by itself; true if that is too often to start only that part anew.
    pub fn note(&mut self, now: Moment) -> bool {
        self.0.retain(|at| now.since(*at) < WITHIN);
        self.0.push_back(now);
        self.0.len() >= MANY
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_third_ending_in_ten_minutes_is_too_many() {
        let at = |seconds| Moment::EPOCH + Duration::from_secs(seconds);
        let mut endings = Endings::default();
        assert!(!endings.note(at(0)) && !endings.note(at(10)));
        assert!(!endings.note(at(605)), "the first is long ago");
        assert!(endings.note(at(606)));
        assert!(!endings.note(at(5000)));
    }
}
