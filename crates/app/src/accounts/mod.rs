//! Accounts of people, their sessions, and the codes with which accounts are made.

mod first_code;
mod password;

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use mostra_core::account::{Session, SignedIn};
use mostra_protocol::Moment;
use mostra_store::StoreError;
use sha2::{Digest, Sha256};

pub use first_code::first_code;
pub use password::{AttemptSource, check as check_password, hash_now};

use crate::context::Context;
use crate::random::{random_bytes, random_word};
use password::Attempts;

/// How long a session lasts.
pub const SESSION: Duration = Duration::from_secs(30 * 24 * 3600);
/// The account of whoever sets the house up.
pub const FIRST: &str = "house";
/// For how long a one-time code counts.
pub const CODE: Duration = Duration::from_secs(600);

/// Why something about an account was not done.
#[derive(Debug, thiserror::Error)]
pub enum AccountError {
    /// The records did not do it.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// Too many passwords are being hashed.
    #[error("too many sign in at once")]
    Busy,
    /// Too many attempts came from one source.
    #[error("too many wrong passwords")]
    TooManyAttempts,
    /// A password of fewer than 8 characters.
    #[error("the password is too short")]
    ShortPassword,
    /// A password of more than 1000 characters.
    #[error("the password is too long")]
    LongPassword,
    /// A password that cannot be hashed.
    #[error("the password cannot be used: {0}")]
    UnusablePassword(#[source] argon2::password_hash::Error),
    /// A name that no account may have.
    #[error("no account may have that name")]
    Name,
    /// A code that is wrong or too old.
    #[error("the code is wrong or has run out")]
    Code,
    /// There is an account of that name.
    #[error("there is an account of that name")]
    Exists,
    /// There is none.
    #[error("there is no account of that name")]
    Missing,
    /// It is the last one.
    #[error("it is the only account")]
    OnlyOne,
    /// The password is wrong, or the name.
    #[error("the name or the password is wrong")]
    WrongPassword,
    /// The password that was to be changed is wrong.
    #[error("the password until now is wrong")]
    WrongCurrent,
    /// There is no such session.
    #[error("there is no such session")]
    NoSession,
}

/// All accounts.
pub struct Accounts {
    context: Context,
    data: PathBuf,
    /// How far the clock is behind the latest time recorded: one that starts in the past revives
    /// no session.
    behind: Duration,
    /// Changes whenever another program ends sessions in the records.
    mark: AtomicU32,
    /// Sessions by token hash.
    sessions: Mutex<HashMap<[u8; 32], Session>>,
    attempts: Attempts,
    code: Mutex<Option<(String, Instant)>>,
}

impl Accounts {
    /// Reads the sessions from the records.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer or are damaged.
    pub async fn open(context: Context, data: &Path) -> Result<Accounts, StoreError> {
        let latest = context.records.latest_time().await?;
        let behind = latest.since(context.now());
        if behind > Duration::from_secs(60) {
            tracing::warn!(
                "the host's clock is {} s behind: sessions end by the time that was",
                behind.as_secs()
            );
        }
        let mark = context.records.sessions_mark().await?;
        let sessions = context.records.sessions(context.now() + behind).await?;
        if !context.records.has_accounts().await? {
            match first_code(data) {
                Ok(code) => tracing::warn!(
                    "there is no account yet: make the first with `mostra login`, or in the \
                     browser with the code {code}"
                ),
                Err(error) => tracing::error!("the first account's code cannot be kept: {error}"),
            }
        }
        Ok(Accounts {
            context,
            data: data.to_owned(),
            behind,
            mark: AtomicU32::new(mark),
            sessions: Mutex::new(sessions.into_iter().map(|s| (s.token_hash, s)).collect()),
            attempts: Attempts::default(),
            code: Mutex::default(),
        })
    }

    fn live(&self) -> MutexGuard<'_, HashMap<[u8; 32], Session>> {
        self.sessions.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The time by which sessions end.
    fn session_time(&self) -> Moment {
        self.context.now() + self.behind
    }

    /// Notes the time in the records, by which sessions end after a restart. While PostgreSQL is
    /// away it is not noted, and nothing else is either.
    pub async fn note_time(&self) {
        let _ = self.context.records.note_time(self.session_time()).await;
    }

    /// Reads the sessions again if another program ended some.
    pub async fn refresh(&self) {
        let Ok(mark) = self.context.records.sessions_mark().await else { return };
        if self.mark.swap(mark, Ordering::SeqCst) == mark {
            return;
        }
        if let Ok(sessions) = self.context.records.sessions(self.session_time()).await {
            *self.live() = sessions.into_iter().map(|s| (s.token_hash, s)).collect();
        }
    }

    /// Whether there is any account.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer.
    pub async fn any(&self) -> Result<bool, StoreError> {
        self.context.records.has_accounts().await
    }

    /// A new code for making one account; an earlier one counts no more.
    pub fn new_code(&self) -> String {
        let code = random_word(8);
        *self.code.lock().unwrap_or_else(PoisonError::into_inner) =
            Some((code.clone(), Instant::now()));
        code
    }

    /// Uses a code up; false if it is wrong or too old.
    fn use_code(&self, code: &str) -> bool {
        let mut kept = self.code.lock().unwrap_or_else(PoisonError::into_inner);
        let typed: String = code.to_lowercase().chars().filter(|c| c.is_alphanumeric()).collect();
        let fits = kept.as_ref().is_some_and(|(c, made)| *c == typed && made.elapsed() < CODE);
        if fits {
            *kept = None;
        }
        fits
    }

    /// Makes an account: the first without a code for whomever the kernel knows on the host, or with
    /// that of the first account; any other with a one-time code.
    ///
    /// # Errors
    /// [`AccountError`] when it was not made.
    pub async fn add(
        &self,
        source: AttemptSource,
        on_host: bool,
        name: &str,
        password: String,
        code: Option<&str>,
    ) -> Result<(), AccountError> {
        if !is_account_name(name) {
            return Err(AccountError::Name);
        }
        password::check(&password)?;
        self.attempts.begin(source, password::CODE)?;
        let code = code.unwrap_or_default();
        let first = !self.any().await?;
        let trusted = first && (on_host || first_code::fits(&self.data, code));
        if !trusted && !self.use_code(code) {
            return Err(AccountError::Code);
        }
        self.attempts.succeeded(source, password::CODE);
        let hash = password::hash(password).await?;
        match self.context.records.add_account(name, &hash).await? {
            true => {
                first_code::forget(&self.data);
                Ok(())
            }
            false => Err(AccountError::Exists),
        }
    }

    /// Names of all accounts, and how many sessions each has.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer.
    pub async fn list(&self) -> Result<Vec<(String, usize)>, StoreError> {
        let names = self.context.records.accounts().await?;
        let (now, live) = (self.session_time(), self.live());
        let count =
            |name: &str| live.values().filter(|s| s.account == name && s.expires > now).count();
        Ok(names.into_iter().map(|name| (name.clone(), count(&name))).collect())
    }

    /// Removes an account with its sessions; never the last one.
    ///
    /// # Errors
    /// [`AccountError`] when it was not removed.
    pub async fn remove(&self, name: &str) -> Result<(), AccountError> {
        let names = self.context.records.accounts().await?;
        if !names.iter().any(|known| known == name) {
            return Err(AccountError::Missing);
        }
        if names.len() == 1 {
            return Err(AccountError::OnlyOne);
        }
        if !self.context.records.remove_account(name).await? {
            return Err(AccountError::Missing);
        }
        self.live().retain(|_, session| session.account != name);
        Ok(())
    }

    /// What an account prefers, as text of the console.
    ///
    /// # Errors
    /// [`StoreError`] when the records do not answer.
    pub async fn preferences(&self, name: &str) -> Result<Option<String>, StoreError> {
        self.context.records.preferences(name).await
    }

    /// Sets what an account prefers.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn set_preferences(&self, name: &str, text: &str) -> Result<(), StoreError> {
        self.context.records.set_preferences(name, text).await
    }

    /// Sets a password. Whoever sets their own says what it was; of their sessions the one that
    /// asks stays, all others of the account end.
    ///
    /// # Errors
    /// [`AccountError`] when it was not set.
    pub async fn set_password(
        &self,
        source: AttemptSource,
        name: &str,
        password: String,
        own: Option<(Option<String>, [u8; 32])>,
    ) -> Result<(), AccountError> {
        password::check(&password)?;
        let recorded = self.context.records.password_hash(name).await?;
        let recorded = recorded.ok_or(AccountError::Missing)?;
        let mut kept = None;
        if let Some((current, token)) = own {
            // Whoever finds a console left open must not take the account over.
            self.attempts.begin(source, name)?;
            if !password::fits(Some(recorded), current.unwrap_or_default()).await? {
                return Err(AccountError::WrongCurrent);
            }
            self.attempts.succeeded(source, name);
            kept = Some(token);
        }
        let hash = password::hash(password).await?;
        if !self.context.records.set_password(name, &hash, kept.as_ref()).await? {
            return Err(AccountError::Missing);
        }
        self.live().retain(|_, s| s.account != name || Some(s.token_hash) == kept);
        Ok(())
    }

    /// Signs somebody in; gives the token. That of a page has two halves, of which the browser keeps one
    /// in a cookie and the page the other: a cookie goes to every port of a host.
    ///
    /// # Errors
    /// [`AccountError`] when they are not who they say.
    pub async fn sign_in(
        &self,
        source: AttemptSource,
        name: &str,
        password: String,
        program: bool,
    ) -> Result<String, AccountError> {
        self.attempts.begin(source, name)?;
        let recorded = self.context.records.password_hash(name).await?;
        if recorded.is_none() && self.attempts.begin(source, password::NOBODY_NAMED).is_err() {
            // Who goes on with names of nobody takes no turns at hashing from others.
            return Err(AccountError::WrongPassword);
        }
        if !password::fits(recorded, password).await? {
            return Err(AccountError::WrongPassword);
        }
        self.attempts.succeeded(source, name);
        let half = || hex(&random_bytes::<32>());
        let token = if program { half() } else { join_halves(&half(), &half()) };
        let began = self.session_time();
        let session = Session {
            token_hash: token_hash(&token),
            account: name.to_owned(),
            began,
            program,
            expires: began + SESSION,
        };
        self.context.records.add_session(&session, began).await?;
        self.live().insert(session.token_hash, session);
        Ok(token)
    }

    /// Who has a token, if its session has not ended.
    pub fn check(&self, token: &str) -> Option<SignedIn> {
        let hash = token_hash(token);
        let session = self.live().get(&hash).cloned()?;
        SignedIn::check(&session, &hash, self.session_time())
    }

    /// Who may see what an address with this key shows: the key is good for one object, as long as the
    /// session lasts that made it.
    pub fn check_address(&self, key: &str, object: &str) -> Option<SignedIn> {
        let (id, mac) = key.split_once('.')?;
        let session = self.live().values().find(|session| session_id(session) == id).cloned()?;
        let wanted = hex(&hmac(&address_secret(&session.token_hash), object.as_bytes()));
        // No early exit, so that the time taken says nothing about the key.
        let differing = wanted.bytes().zip(mac.bytes()).fold(0, |all, (a, b)| all | (a ^ b));
        if wanted.len() != mac.len() || differing != 0 {
            return None;
        }
        SignedIn::check(&session, &session.token_hash, self.session_time())
    }

    /// Sessions that have not ended, by account and age.
    pub fn sessions(&self) -> Vec<Session> {
        let now = self.session_time();
        let mut live: Vec<Session> =
            self.live().values().filter(|session| session.expires > now).cloned().collect();
        live.sort_by(|a, b| (&a.account, a.began).cmp(&(&b.account, b.began)));
        live
    }

    /// Ends all sessions of an account.
    ///
    /// # Errors
    /// [`AccountError`] when there is no such account, or they were not ended.
    pub async fn end_sessions_of(&self, name: &str) -> Result<(), AccountError> {
        if self.context.records.password_hash(name).await?.is_none() {
            return Err(AccountError::Missing);
        }
        self.context.records.remove_sessions_of(name).await?;
        self.live().retain(|_, session| session.account != name);
        Ok(())
    }

    /// Ends the session of a [name](session_id).
    ///
    /// # Errors
    /// [`AccountError`] when there is none, or it was not ended.
    pub async fn end_session(&self, id: &str) -> Result<(), AccountError> {
        let found = self.live().values().find(|s| session_id(s) == id).map(|s| s.token_hash);
        self.end(&found.ok_or(AccountError::NoSession)?).await
    }

    /// Ends the session of a token.
    ///
    /// # Errors
    /// [`AccountError`] when it was not ended.
    pub async fn sign_out(&self, token: &str) -> Result<(), AccountError> {
        self.end(&token_hash(token)).await
    }

    async fn end(&self, hash: &[u8; 32]) -> Result<(), AccountError> {
        self.context.records.remove_session(hash).await?;
        self.live().remove(hash);
        Ok(())
    }
}

/// Whether a new account may have a name. It stands in paths, where `..` means something else.
pub fn is_account_name(name: &str) -> bool {
    name.len() <= 40
        && name.starts_with(char::is_alphanumeric)
        && name.chars().all(|c| c.is_alphanumeric() || "-_.".contains(c))
}

/// A session's name: enough of its hash to tell it from others, and nothing by which to use it.
pub fn session_id(session: &Session) -> String {
    hex(&session.token_hash[..8])
}

/// A token as it is recorded.
pub fn token_hash(token: &str) -> [u8; 32] {
    Sha256::digest(token.as_bytes()).into()
}

/// The token of a page, of its two halves.
pub fn join_halves(cookie: &str, page: &str) -> String {
    format!("{cookie}.{page}")
}

/// What a page needs to make the keys of addresses that the browser fetches by itself: the session's
/// name, and a secret.
pub fn address_keys(token: &str) -> (String, String) {
    let hash = token_hash(token);
    (hex(&hash[..8]), hex(&address_secret(&hash)))
}

fn address_secret(token_hash: &[u8; 32]) -> [u8; 32] {
    hmac(token_hash, b"addresses of objects")
}

fn hmac(key: &[u8; 32], text: &[u8]) -> [u8; 32] {
    use hmac::Mac as _;
    // As the standard has it (RFC 2104): a key is filled up to a block with zeros.
    let mut block = [0; 64];
    block[..key.len()].copy_from_slice(key);
    let mut mac = hmac::Hmac::<Sha256>::new(&block.into());
    mac.update(text);
    mac.finalize().into_bytes().into()
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}
