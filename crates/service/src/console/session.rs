//! Signing in: first start, login, sessions.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use actix_web::cookie::{Cookie, SameSite};
use actix_web::dev::Payload;
use actix_web::http::{Method, StatusCode, header};
use actix_web::{FromRequest, HttpRequest, HttpResponse, web};
use argon2::password_hash::{PasswordHash, SaltString};
use argon2::{Argon2, PasswordHasher, PasswordVerifier};
use mostra_api::{Account, Login, NewAccount, Session, Setup};
use mostra_core::account::{self, SignedIn};
use sha2::{Digest, Sha256};

use super::Side;
use super::access::ConsoleDoor;
use super::body::Body;
use super::guard::Place;
use super::problem::Failure;
use crate::house::House;
use crate::random::random_bytes;

/// How long a session lasts.
const LENGTH: Duration = Duration::from_secs(30 * 24 * 3600);
/// The cookie's name.
const COOKIE: &str = "mostra_session";
/// The account of whoever sets the house up.
pub const FIRST: &str = "house";
/// The shortest password taken.
const SHORTEST: usize = 8;

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .route("/setup", web::get().to(setup))
        .route("/accounts", web::post().to(add_account))
        .route("/session", web::get().to(show))
        .route("/session", web::post().to(login))
        .route("/session", web::delete().to(logout));
}

/// Failed logins by source, to slow guessing down.
#[derive(Debug, Default)]
pub struct Attempts(Mutex<HashMap<IpAddr, (u32, Instant)>>);

impl Attempts {
    /// Ten failures, then one try each ten seconds.
    fn check(&self, source: IpAddr) -> Result<(), Failure> {
        let attempts = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match attempts.get(&source) {
            Some((n, last)) if *n >= 10 && last.elapsed() < Duration::from_secs(10) => {
                Err(Failure::new(StatusCode::TOO_MANY_REQUESTS, "Too many wrong passwords")
                    .next("Wait ten seconds and try again."))
            }
            _ => Ok(()),
        }
    }

    fn failed(&self, source: IpAddr) {
        let mut attempts = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if attempts.len() > 1000 {
            attempts.retain(|_, (_, last)| last.elapsed() < Duration::from_secs(60));
        }
        let entry = attempts.entry(source).or_insert((0, Instant::now()));
        *entry = (entry.0 + 1, Instant::now());
    }

    fn succeeded(&self, source: IpAddr) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(&source);
    }
}

/// Somebody signed in, taken from a request: by cookie, or by `Authorization: Bearer`. A change
/// by cookie also needs the CSRF token.
pub struct Caller(pub SignedIn);

impl FromRequest for Caller {
    type Error = Failure;
    type Future = std::future::Ready<Result<Caller, Failure>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        std::future::ready(identify(request).map(|(signed_in, _)| Caller(signed_in)))
    }
}

fn identify(request: &HttpRequest) -> Result<(SignedIn, String), Failure> {
    let out = || {
        Failure::new(StatusCode::UNAUTHORIZED, "Not signed in")
            .next("Sign in at the console, or run `mostra login`.")
    };
    let house = request.app_data::<web::Data<House>>().ok_or_else(out)?;
    let bearer = request.headers().get(header::AUTHORIZATION).and_then(|v| v.to_str().ok());
    let bearer = bearer.and_then(|v| v.strip_prefix("Bearer ")).map(str::to_owned);
    let cookie = request.cookie(COOKIE).map(|c| c.value().to_owned());
    let by_cookie = bearer.is_none();
    let token = bearer.or(cookie).ok_or_else(out)?;
    let hash = token_hash(&token);
    let session = house.sessions.lock().unwrap_or_else(PoisonError::into_inner).get(&hash).cloned();
    let signed_in =
        session.and_then(|s| SignedIn::check(&s, &hash, house.session_time())).ok_or_else(out)?;
    let changing = !matches!(*request.method(), Method::GET | Method::HEAD);
    if by_cookie && changing {
        let sent = request.headers().get("x-csrf-token").and_then(|v| v.to_str().ok());
        if sent != Some(csrf(&token).as_str()) {
            return Err(Failure::new(StatusCode::FORBIDDEN, "The page is out of date")
                .next("Reload it and try again."));
        }
    }
    Ok((signed_in, token))
}

fn token_hash(token: &str) -> [u8; 32] {
    Sha256::digest(token.as_bytes()).into()
}

/// A token that only a page of ours can know: made from the session's own.
fn csrf(token: &str) -> String {
    hex(&Sha256::digest(format!("mostra csrf {token}").as_bytes()))
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

/// Whether the house still needs its first password.
async fn setup(
    house: web::Data<House>,
    place: web::Data<Place>,
) -> Result<web::Json<Setup>, Failure> {
    let needed = !house.records.has_accounts().await?;
    Ok(web::Json(Setup { needed, code_needed: place.side == Side::House || !needed }))
}

/// Makes an account: the first from loopback without a code, any other with one.
async fn add_account(
    request: HttpRequest,
    body: Body<NewAccount>,
    house: web::Data<House>,
    place: web::Data<Place>,
    door: web::Data<ConsoleDoor>,
    attempts: web::Data<Attempts>,
) -> Result<HttpResponse, Failure> {
    let source =
        request.peer_addr().map(|p| p.ip()).ok_or_else(|| Failure::invalid("Unknown sender"))?;
    attempts.check(source)?;
    let NewAccount { name, password, code } = body.0;
    let name = name.unwrap_or_else(|| FIRST.into());
    if name.is_empty()
        || name.len() > 40
        || !name.chars().all(|c| c.is_alphanumeric() || "-_.".contains(c))
    {
        return Err(Failure::invalid("That name does not work")
            .why("A name is 1 to 40 letters, digits, - _ or ."));
    }
    if password.chars().count() < SHORTEST {
        return Err(
            Failure::invalid("That password is too short").next("Take at least 8 characters.")
        );
    }
    let first = !house.records.has_accounts().await?;
    let trusted = first && place.side == Side::Loopback;
    if !trusted && !door.use_code(code.as_deref().unwrap_or_default()) {
        attempts.failed(source);
        return Err(Failure::new(StatusCode::FORBIDDEN, "The code is wrong or has run out")
            .next("Run `mostra house code` on the host and type what it shows."));
    }
    let hash = web::block(move || hash_password(&password))
        .await
        .map_err(|e| Failure::invalid("The password cannot be used").why(e.to_string()))??;
    if !house.records.add_account(&name, &hash).await? {
        return Err(Failure::new(StatusCode::CONFLICT, "There is an account of that name")
            .next("Sign in instead."));
    }
    Ok(HttpResponse::Created().json(Account { name }))
}

fn hash_password(password: &str) -> Result<String, Failure> {
    let salt = SaltString::encode_b64(&random_bytes::<16>());
    let hashed = salt.and_then(|salt| {
        Argon2::default().hash_password(password.as_bytes(), &salt).map(|h| h.to_string())
    });
    hashed.map_err(|e| Failure::invalid("The password cannot be used").why(e.to_string()))
}

async fn login(
    request: HttpRequest,
    body: Body<Login>,
    house: web::Data<House>,
    place: web::Data<Place>,
    attempts: web::Data<Attempts>,
) -> Result<HttpResponse, Failure> {
    let source =
        request.peer_addr().map(|p| p.ip()).ok_or_else(|| Failure::invalid("Unknown sender"))?;
    attempts.check(source)?;
    let Login { name, password, token: program } = body.0;
    let name = name.unwrap_or_else(|| FIRST.into());
    let recorded = house.records.password_hash(&name).await?;
    let fits = web::block(move || {
        let parsed = recorded.as_deref().and_then(|r| PasswordHash::new(r).ok());
        parsed.is_some_and(|p| Argon2::default().verify_password(password.as_bytes(), &p).is_ok())
    });
    if !fits.await.unwrap_or(false) {
        attempts.failed(source);
        return Err(Failure::new(StatusCode::UNAUTHORIZED, "The name or the password is wrong"));
    }
    attempts.succeeded(source);
    let token = hex(&random_bytes::<32>());
    let session = account::Session {
        token_hash: token_hash(&token),
        account: name.clone(),
        expires: house.session_time() + LENGTH,
    };
    house.records.add_session(&session, house.session_time()).await?;
    house
        .sessions
        .lock()
        .unwrap_or_else(PoisonError::into_inner)
        .insert(session.token_hash, session);
    let csrf = csrf(&token);
    if program {
        return Ok(HttpResponse::Created().json(Session {
            account: name,
            csrf,
            token: Some(token),
        }));
    }
    let cookie = Cookie::build(COOKIE, token)
        .path("/")
        .http_only(true)
        .same_site(SameSite::Strict)
        .secure(place.side == Side::House)
        .max_age(actix_web::cookie::time::Duration::seconds(LENGTH.as_secs() as i64))
        .finish();
    Ok(HttpResponse::Created().cookie(cookie).json(Session { account: name, csrf, token: None }))
}

async fn show(request: HttpRequest) -> Result<web::Json<Session>, Failure> {
    let (signed_in, token) = identify(&request)?;
    Ok(web::Json(Session { account: signed_in.account().into(), csrf: csrf(&token), token: None }))
}

async fn logout(request: HttpRequest, house: web::Data<House>) -> Result<HttpResponse, Failure> {
    let (_, token) = identify(&request)?;
    let hash = token_hash(&token);
    house.records.remove_session(&hash).await?;
    house.sessions.lock().unwrap_or_else(PoisonError::into_inner).remove(&hash);
    let mut gone = Cookie::build(COOKIE, "").path("/").finish();
    gone.make_removal();
    Ok(HttpResponse::NoContent().cookie(gone).finish())
}
