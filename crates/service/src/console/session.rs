//! Signing in: first start, login, sessions.

use std::sync::PoisonError;
use std::time::Duration;

use actix_web::cookie::{Cookie, SameSite};
use actix_web::dev::Payload;
use actix_web::http::{Method, StatusCode, header};
use actix_web::{FromRequest, HttpRequest, HttpResponse, delete, get, post, web};
use mostra_api::{Login, Session, Setup};
use mostra_core::account::{self, SignedIn};
use sha2::{Digest, Sha256};
use utoipa_actix_web::service_config::ServiceConfig;

use super::Side;
use super::body::Body;
use super::guard::Place;
use super::password::{self, Attempts};
use super::problem::Failure;
use crate::house::House;
use crate::random::random_bytes;

/// How long a session lasts.
const LENGTH: Duration = Duration::from_secs(30 * 24 * 3600);
/// The cookie's name.
pub const COOKIE: &str = "mostra_session";
/// The account of whoever sets the house up.
pub const FIRST: &str = "house";

pub fn routes(config: &mut ServiceConfig<'_>) {
    config.service(setup).service(show).service(login).service(logout);
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

/// The hash of the token that a request came with.
pub fn token_of(request: &HttpRequest) -> Option<[u8; 32]> {
    identify(request).ok().map(|(_, token)| token_hash(&token))
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
#[utoipa::path(
    operation_id = "getSetup",
    summary = "Whether the house still needs its first password",
    responses((status = 200, body = mostra_api::Setup)),
    security(())
)]
#[get("/setup")]
async fn setup(
    house: web::Data<House>,
    place: web::Data<Place>,
) -> Result<web::Json<Setup>, Failure> {
    let needed = !house.records.has_accounts().await?;
    Ok(web::Json(Setup { needed, code_needed: place.side == Side::House || !needed }))
}

#[utoipa::path(
    operation_id = "signIn",
    summary = "Sign in",
    request_body = mostra_api::Login,
    responses((status = 201, body = mostra_api::Session)),
    security(())
)]
#[post("/session")]
async fn login(
    request: HttpRequest,
    body: Body<Login>,
    house: web::Data<House>,
    place: web::Data<Place>,
    attempts: web::Data<Attempts>,
) -> Result<HttpResponse, Failure> {
    let source =
        request.peer_addr().map(|p| p.ip()).ok_or_else(|| Failure::invalid("Unknown sender"))?;
    attempts.begin(source)?;
    let Login { name, password, token: program } = body.0;
    let name = name.unwrap_or_else(|| FIRST.into());
    let recorded = house.records.password_hash(&name).await?;
    if !password::fits(recorded, password).await? {
        return Err(Failure::new(StatusCode::UNAUTHORIZED, "The name or the password is wrong")
            .next("A lost password is reset on the host: mostrad account reset"));
    }
    attempts.succeeded(source);
    let token = hex(&random_bytes::<32>());
    let session = account::Session {
        token_hash: token_hash(&token),
        account: name.clone(),
        began: house.session_time(),
        program,
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

#[utoipa::path(
    operation_id = "getSession",
    summary = "Who is signed in",
    responses((status = 200, body = mostra_api::Session))
)]
#[get("/session")]
async fn show(request: HttpRequest) -> Result<web::Json<Session>, Failure> {
    let (signed_in, token) = identify(&request)?;
    Ok(web::Json(Session { account: signed_in.account().into(), csrf: csrf(&token), token: None }))
}

#[utoipa::path(
    operation_id = "signOut",
    summary = "Sign out",
    responses((status = 204))
)]
#[delete("/session")]
async fn logout(request: HttpRequest, house: web::Data<House>) -> Result<HttpResponse, Failure> {
    let (_, token) = identify(&request)?;
    let hash = token_hash(&token);
    house.records.remove_session(&hash).await?;
    house.sessions.lock().unwrap_or_else(PoisonError::into_inner).remove(&hash);
    let mut gone = Cookie::build(COOKIE, "").path("/").finish();
    gone.make_removal();
    Ok(HttpResponse::NoContent().cookie(gone).finish())
}
