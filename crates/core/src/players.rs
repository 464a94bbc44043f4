//! What plays in the players of the console, as these tell from time to time.

use std::time::Duration;

use mostra_protocol::Moment;

use crate::Kind;
use crate::ids::FileId;

/// After how long a player that tells nothing more has gone.
const SILENT: Duration = Duration::from_secs(15);
/// Players remembered at most.
const MOST: usize = 64;

/// Something that plays in the console.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Playing {
    /// Whose player it is.
    pub account: String,
    /// What plays.
    pub file: FileId,
    /// Its title.
    pub title: String,
    /// Its kind.
    pub kind: Kind,
    /// Since when.
    pub since: Moment,
    told: Moment,
}

/// The players of the console.
#[derive(Debug, Default)]
pub struct Players(Vec<Playing>);

impl Players {
    /// A player tells that it plays; gives whether that is news.
    pub fn tell(
        &mut self,
        now: Moment,
        account: &str,
        file: FileId,
        title: &str,
        kind: Kind,
    ) -> bool {
        self.forget_silent(now);
        let known = self.0.iter_mut().find(|p| p.account == account && p.file == file);
        if let Some(playing) = known {
            playing.told = now;
            return false;
        }
        if self.0.len() >= MOST {
            return false;
        }
        let (account, title) = (account.to_owned(), title.to_owned());
        self.0.push(Playing { account, file, title, kind, since: now, told: now });
        true
    }

    /// What an account played plays no more; gives whether anything did.
    pub fn stop(&mut self, account: &str) -> bool {
        let before = self.0.len();
        self.0.retain(|playing| playing.account != account);
        self.0.len() < before
    }

    /// What plays now, the oldest first.
    pub fn playing(&mut self, now: Moment) -> &[Playing] {
        self.forget_silent(now);
        &self.0
    }

    fn forget_silent(&mut self, now: Moment) {
        self.0.retain(|playing| now.since(playing.told) < SILENT);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_player_plays_until_it_says_otherwise_or_nothing_more() {
        let at = |seconds: u64| Moment::after_epoch(Duration::from_secs(1_000 + seconds));
        let mut players = Players::default();
        let tell = |players: &mut Players, seconds, who: &str, file| {
            players.tell(at(seconds), who, FileId(file), "Fog", Kind::Video)
        };
        assert!(tell(&mut players, 0, "house", 1), "news");
        assert!(!tell(&mut players, 5, "house", 1), "no news");
        assert!(tell(&mut players, 5, "guest", 1));
        assert_eq!(players.playing(at(19)).len(), 2);
        assert_eq!(players.playing(at(19))[0].since, at(0));
        assert!(players.stop("guest") && !players.stop("guest"));
        assert_eq!(players.playing(at(20)).len(), 0, "silent for fifteen seconds");
        for file in 0..1000 {
            tell(&mut players, 30, "house", file);
        }
        assert_eq!(players.playing(at(30)).len(), MOST);
    }
}
