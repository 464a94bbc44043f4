//! Signing in: first start, login, sessions.

use actix_web::cookie::{Cookie, SameSite};
use actix_web::dev::Payload;
use actix_web::http::{Method, StatusCode, header};
use actix_web::{FromRequest, HttpRequest, HttpResponse, delete, get, post, web};
use mostra_api::{Login, Session, Setup};
use mostra_app::accounts::{Accounts, AttemptSource, FIRST, SESSION, csrf};
use mostra_core::account::SignedIn;
use utoipa_actix_web::service_config::ServiceConfig;

use super::Side;
use super::body::JsonBody;
use super::guard::ListenerAddress;
use super::host_socket::{PeerUser, tcp_owner};
use super::problem::ApiFailure;

/// The cookie's name.
pub(crate) const COOKIE: &str = "mostra_session";

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(setup).service(show).service(login).service(logout);
}

/// Somebody signed in, taken from a request: by cookie, or by `Authorization: Bearer`. A change
/// by cookie also needs the CSRF token.
pub(crate) struct Caller(pub SignedIn);

impl FromRequest for Caller {
    type Error = ApiFailure;
    type Future = std::future::Ready<Result<Caller, ApiFailure>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        std::future::ready(identify(request).map(|(signed_in, _)| Caller(signed_in)))
    }
}

/// Who asks, and the token that says so; whom the kernel knows has none.
fn identify(request: &HttpRequest) -> Result<(SignedIn, Option<String>), ApiFailure> {
    if let Some(known) = request.conn_data::<PeerUser>().and_then(|peer| peer.signed_in()) {
        return Ok((known, None));
    }
    let out = || {
        ApiFailure::new(StatusCode::UNAUTHORIZED, "Not signed in")
            .next("Sign in at the console, or run `mostra login`.")
    };
    let accounts = request.app_data::<web::Data<Accounts>>().ok_or_else(out)?;
    let bearer = request.headers().get(header::AUTHORIZATION).and_then(|v| v.to_str().ok());
    let bearer = bearer.and_then(|v| v.strip_prefix("Bearer ")).map(str::to_owned);
    let cookie = request.cookie(COOKIE).map(|c| c.value().to_owned());
    let by_cookie = bearer.is_none();
    let token = bearer.or(cookie).ok_or_else(out)?;
    let signed_in = accounts.check(&token).ok_or_else(out)?;
    let changing = !matches!(*request.method(), Method::GET | Method::HEAD);
    if by_cookie && changing {
        let sent = request.headers().get("x-csrf-token").and_then(|v| v.to_str().ok());
        if sent != Some(csrf(&token).as_str()) {
            return Err(ApiFailure::new(StatusCode::FORBIDDEN, "The page is out of date")
                .next("Reload it and try again."));
        }
    }
    Ok((signed_in, Some(token)))
}

/// The token that a request came with.
pub(crate) fn token_of(request: &HttpRequest) -> Option<String> {
    identify(request).ok().and_then(|(_, token)| token)
}

/// From where a request came, as far as sign-ins are counted: of this host, the user.
///
/// # Errors
/// [`ApiFailure`] where the system does not say.
pub(crate) fn source_of(request: &HttpRequest) -> Result<AttemptSource, ApiFailure> {
    if let Some(PeerUser(user)) = request.conn_data::<PeerUser>() {
        return Ok(AttemptSource::User(*user));
    }
    let peer = request.peer_addr().ok_or_else(|| ApiFailure::invalid("Unknown sender"))?;
    let local = request.app_data::<web::Data<ListenerAddress>>().map(|place| place.address);
    let user = peer.ip().is_loopback().then(|| tcp_owner(peer, local?)).flatten();
    Ok(user.map_or(AttemptSource::Address(peer.ip()), AttemptSource::User))
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
    accounts: web::Data<Accounts>,
    place: web::Data<ListenerAddress>,
) -> Result<web::Json<Setup>, ApiFailure> {
    let needed = !accounts.any().await?;
    Ok(web::Json(Setup { needed, code_needed: place.side != Side::Host || !needed }))
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
    body: JsonBody<Login>,
    accounts: web::Data<Accounts>,
    place: web::Data<ListenerAddress>,
) -> Result<HttpResponse, ApiFailure> {
    let Login { name, password, token: program } = body.0;
    let name = name.unwrap_or_else(|| FIRST.into());
    let token = accounts.sign_in(source_of(&request)?, &name, password, program).await?;
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
        .max_age(actix_web::cookie::time::Duration::seconds(SESSION.as_secs() as i64))
        .finish();
    Ok(HttpResponse::Created().cookie(cookie).json(Session { account: name, csrf, token: None }))
}

#[utoipa::path(
    operation_id = "getSession",
    summary = "Who is signed in",
    responses((status = 200, body = mostra_api::Session))
)]
#[get("/session")]
async fn show(request: HttpRequest) -> Result<web::Json<Session>, ApiFailure> {
    let (signed_in, token) = identify(&request)?;
    let csrf = token.map(|token| csrf(&token)).unwrap_or_default();
    Ok(web::Json(Session { account: signed_in.account().into(), csrf, token: None }))
}

#[utoipa::path(
    operation_id = "signOut",
    summary = "Sign out",
    responses((status = 204))
)]
#[delete("/session")]
async fn logout(
    request: HttpRequest,
    accounts: web::Data<Accounts>,
) -> Result<HttpResponse, ApiFailure> {
    let (_, token) = identify(&request)?;
    if let Some(token) = token {
        accounts.sign_out(&token).await?;
    }
    let mut gone = Cookie::build(COOKIE, "").path("/").finish();
    gone.make_removal();
    Ok(HttpResponse::NoContent().cookie(gone).finish())
}
