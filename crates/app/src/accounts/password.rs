//! Passwords: hashing them, which takes memory and a processor, a few at a time; and slowing
//! down who guesses.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, LazyLock, Mutex, PoisonError};
use std::time::{Duration, Instant};

use argon2::password_hash::{PasswordHash, SaltString};
use argon2::{Argon2, PasswordHasher, PasswordVerifier};
use tokio::sync::Semaphore;

use super::AccountError;
use crate::random::random_bytes;

/// The shortest and the longest password taken, in characters.
const SHORTEST: usize = 8;
const LONGEST: usize = 1000;

/// Passwords hashed at a time, and requests that may wait for that.
const AT_ONCE: usize = 2;
const MOST_WAITING: usize = 16;
static TURNS: LazyLock<Turns> = LazyLock::new(Turns::new);

/// A hash that no password fits: somebody who does not exist takes as long as somebody who does.
static NOBODY: LazyLock<String> =
    LazyLock::new(|| hash_now(&format!("{:x?}", random_bytes::<16>())).unwrap_or_default());

/// Whether a password will do.
///
/// # Errors
/// What is wrong with it.
pub fn check(password: &str) -> Result<(), AccountError> {
    match password.chars().count() {
        0..SHORTEST => Err(AccountError::ShortPassword),
        SHORTEST..=LONGEST => Ok(()),
        _ => Err(AccountError::LongPassword),
    }
}

/// A password as it is recorded.
///
/// # Errors
/// When too many others are being hashed.
pub(super) async fn hash(password: String) -> Result<String, AccountError> {
    TURNS.take(move || hash_now(&password)).await?.map_err(AccountError::UnusablePassword)
}

/// Whether a password is the recorded one. Where none is recorded it takes as long.
///
/// # Errors
/// When too many others are being hashed.
pub(super) async fn fits(recorded: Option<String>, password: String) -> Result<bool, AccountError> {
    TURNS
        .take(move || {
            let known = recorded.is_some();
            let recorded = recorded.unwrap_or_else(|| NOBODY.clone());
            let parsed = PasswordHash::new(&recorded);
            let fits = parsed.is_ok_and(|parsed| {
                Argon2::default().verify_password(password.as_bytes(), &parsed).is_ok()
            });
            fits && known
        })
        .await
}

/// Who hashes, and who waits for that.
struct Turns {
    places: Arc<Semaphore>,
    waiting: AtomicUsize,
}

impl Turns {
    fn new() -> Turns {
        Turns { places: Arc::new(Semaphore::new(AT_ONCE)), waiting: AtomicUsize::new(0) }
    }

    async fn take<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, AccountError> {
        let busy = || AccountError::Busy;
        let waiting = QueuePlace::begin(&self.waiting).ok_or_else(busy)?;
        let place = self.places.clone().acquire_owned().await.map_err(|_| busy())?;
        drop(waiting);
        // The place goes with the work, which nothing stops: whoever hangs up frees none.
        let work = move || {
            let done = work();
            drop(place);
            done
        };
        tokio::task::spawn_blocking(work).await.map_err(|_| busy())
    }
}

struct QueuePlace<'a>(&'a AtomicUsize);

impl QueuePlace<'_> {
    fn begin(all: &AtomicUsize) -> Option<QueuePlace<'_>> {
        let before = all.fetch_add(1, Ordering::SeqCst);
        let waiting = QueuePlace(all);
        (before < MOST_WAITING).then_some(waiting)
    }
}

impl Drop for QueuePlace<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::SeqCst);
    }
}

/// Hashes at once, on this thread.
///
/// # Errors
/// Those of the library.
pub fn hash_now(password: &str) -> Result<String, argon2::password_hash::Error> {
    let salt = SaltString::encode_b64(&random_bytes::<16>());
    salt.and_then(|salt| {
        Argon2::default().hash_password(password.as_bytes(), &salt).map(|hash| hash.to_string())
    })
}

/// Who guesses at what: an account's name from an address. A right password is refused only for the pair
/// that guessed too often, so nobody keeps others out by guessing at their accounts from elsewhere, or at
/// other accounts from here.
type Guesser = (AttemptSource, String);

/// From where somebody tries to sign in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum AttemptSource {
    /// Another machine.
    Address(IpAddr),
    /// A user of this host, by the kernel's word: all that they run counts as one.
    User(u32),
}

/// What is guessed at where it is no account: a one-time code, and names that nobody has. No account is
/// called so.
pub(super) const CODE: &str = "(code)";
pub(super) const NOBODY_NAMED: &str = "(nobody)";

/// Sign-ins by account and source, to slow guessing down.
#[derive(Debug, Default)]
pub(super) struct Attempts(Mutex<HashMap<Guesser, (u32, Instant)>>);

/// Attempts without a success before each next one must wait, and how long.
const FREE: u32 = 10;
const WAIT: Duration = Duration::from_secs(10);
/// Pairs remembered, and bytes of a name in one.
const PAIRS: usize = 1000;
const NAME: usize = 64;

fn guesser(source: AttemptSource, account: &str) -> Guesser {
    (source, account.chars().take(NAME).collect())
}

impl Attempts {
    /// Counts an attempt before it is looked at: of many at once, no more pass than of as many
    /// one after the other.
    ///
    /// # Errors
    /// When its source has to wait.
    pub(super) fn begin(&self, source: AttemptSource, account: &str) -> Result<(), AccountError> {
        let pair = guesser(source, account);
        let mut attempts = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if attempts.len() >= PAIRS {
            attempts.retain(|_, (_, last)| last.elapsed() < Duration::from_secs(60));
        }
        if attempts.len() >= PAIRS && !attempts.contains_key(&pair) {
            // Who makes up names forgets his own: each costs a turn at hashing all the same.
            let oldest = attempts.iter().min_by_key(|(_, (times, last))| (*times, *last));
            if let Some(oldest) = oldest.map(|(pair, _)| pair.clone()) {
                attempts.remove(&oldest);
            }
        }
        let entry = attempts.entry(pair).or_insert((0, Instant::now()));
        let must_wait = entry.0 >= FREE && entry.1.elapsed() < WAIT;
        if must_wait {
            return Err(AccountError::TooManyAttempts);
        }
        *entry = (entry.0 + 1, Instant::now());
        Ok(())
    }

    /// An attempt was right.
    pub(super) fn succeeded(&self, source: AttemptSource, account: &str) {
        let mut attempts = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        attempts.remove(&guesser(source, account));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn attempts_count_before_they_are_looked_at() {
        let attempts = Attempts::default();
        let source = |n: u8| AttemptSource::Address(IpAddr::from([192, 0, 2, n]));
        let passed = (0..256).filter(|_| attempts.begin(source(1), "house").is_ok()).count();
        assert_eq!(passed, FREE as usize);
        assert!(attempts.begin(source(2), "house").is_ok(), "others are not held up");
        assert!(attempts.begin(source(1), "keeper").is_ok(), "nor is another account");
        // A local user who guesses keeps no other one out.
        let guesses =
            (0..20).filter(|_| attempts.begin(AttemptSource::User(1001), "house").is_ok());
        assert_eq!(guesses.count(), FREE as usize);
        assert!(attempts.begin(AttemptSource::User(1000), "house").is_ok());
        attempts.succeeded(source(1), "house");
        assert!(attempts.begin(source(1), "house").is_ok());
        // However many names are made up, no more pairs are remembered.
        for n in 0..2 * PAIRS {
            assert!(attempts.begin(source(3), &format!("made-up-{n}")).is_ok());
        }
        assert!(attempts.0.lock().unwrap().len() <= PAIRS);
    }

    #[tokio::test]
    async fn an_unknown_name_takes_as_long_as_a_wrong_password() {
        let recorded = hash_now("lamp and lens").unwrap();
        let time = async |recorded: Option<String>| {
            let mut all = Vec::new();
            for _ in 0..5 {
                let begin = Instant::now();
                let fits = fits(recorded.clone(), "wrong password".into()).await.unwrap();
                all.push(begin.elapsed().as_secs_f64());
                assert!(!fits);
            }
            all.sort_by(f64::total_cmp);
            all[2]
        };
        time(None).await;
        let (known, unknown) = (time(Some(recorded.clone())).await, time(None).await);
        let ratio = known / unknown;
        assert!((0.5..2.0).contains(&ratio), "{known} s and {unknown} s");
        assert!(fits(Some(recorded), "lamp and lens".into()).await.unwrap());
        assert!(!fits(None, String::new()).await.unwrap());
    }

    #[tokio::test]
    async fn two_are_hashed_at_a_time_and_few_wait() {
        use std::sync::atomic::AtomicUsize;
        static RUNNING: AtomicUsize = AtomicUsize::new(0);
        static MOST: AtomicUsize = AtomicUsize::new(0);
        let turns = Turns::new();
        let one = || {
            turns.take(|| {
                MOST.fetch_max(RUNNING.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
                std::thread::sleep(Duration::from_millis(20));
                RUNNING.fetch_sub(1, Ordering::SeqCst);
            })
        };
        let all = futures_util::future::join_all((0..256).map(|_| one())).await;
        let done = all.iter().filter(|one| one.is_ok()).count();
        assert!(
            MOST.load(Ordering::SeqCst) <= AT_ONCE && (1..=MOST_WAITING + AT_ONCE).contains(&done),
            "{done}"
        );
    }
    #[tokio::test]
    async fn whoever_hangs_up_frees_no_place_before_the_work_is_done() {
        let turns = Turns::new();
        let (end, ended) = std::sync::mpsc::channel::<()>();
        let (begin, begun) = std::sync::mpsc::channel();
        let asked = turns.take(move || {
            begin.send(()).unwrap();
            ended.recv().is_ok()
        });
        assert!(tokio::time::timeout(Duration::from_millis(50), asked).await.is_err());
        begun.recv().unwrap();
        assert_eq!(turns.places.available_permits(), AT_ONCE - 1);
        end.send(()).unwrap();
        let all = turns.places.acquire_many(AT_ONCE as u32).await;
        assert!(all.is_ok(), "and then it is free");
    }
}
