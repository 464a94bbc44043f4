//! Signing in: first start, login, sessions.

use actix_web::cookie::{Cookie, SameSite};
use actix_web::dev::Payload;
use actix_web::http::{StatusCode, header};
use actix_web::{FromRequest, HttpRequest, HttpResponse, delete, get, post, web};
use mostra_api::{AddressKeys, Login, Session, Setup};
use mostra_app::accounts::{Accounts, AttemptSource, FIRST, SESSION, address_keys, join_halves};
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

/// The field in which a page sends its half of the token.
pub(crate) const PAGE_SECRET: &str = "x-page-secret";

/// Somebody signed in, taken from a request: by the host's socket, by `Authorization: Bearer`, or by
/// cookie together with the page's own half of the token.
pub(crate) struct Caller(pub SignedIn);

/// The same, or by the key of an address: for what a browser fetches by itself.
pub(crate) struct CallerOrKey(pub SignedIn);

impl FromRequest for CallerOrKey {
    type Error = ApiFailure;
    type Future = std::future::Ready<Result<CallerOrKey, ApiFailure>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let known = by_address(request).map(Ok);
        let known = known.unwrap_or_else(|| identify(request).map(|(signed_in, _)| signed_in));
        std::future::ready(known.map(CallerOrKey))
    }
}

fn by_address(request: &HttpRequest) -> Option<SignedIn> {
    let accounts = request.app_data::<web::Data<Accounts>>()?;
    let key = request.query_string().split('&').find_map(|pair| pair.strip_prefix("key="))?;
    accounts.check_address(key, object_of(request.path())?)
}

/// The object that the key of an address is good for.
fn object_of(path: &str) -> Option<&str> {
    let path = path.strip_prefix("/api/v1")?;
    let item = path.strip_prefix("/catalogue/").and_then(|rest| rest.split('/').next());
    Some(item.map_or(path, |id| &path[.."/catalogue/".len() + id.len()]))
}

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
    let by_page = || {
        let cookie = request.cookie(COOKIE)?;
        let page = request.headers().get(PAGE_SECRET)?.to_str().ok()?;
        Some(join_halves(cookie.value(), page))
    };
    let token = bearer.or_else(by_page).ok_or_else(out)?;
    let signed_in = accounts.check(&token).ok_or_else(out)?;
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
    let session = |page_secret, addresses, token| {
        HttpResponse::Created().json(Session { account: name, page_secret, addresses, token })
    };
    let Some((cookie, page)) = token.split_once('.') else {
        return Ok(session(None, None, Some(token)));
    };
    let (kept, addresses) = (page.to_owned(), addresses(&token));
    let cookie = Cookie::build(COOKIE, cookie.to_owned())
        .path("/")
        .http_only(true)
        .same_site(SameSite::Strict)
        .secure(place.side == Side::House)
        .max_age(actix_web::cookie::time::Duration::seconds(SESSION.as_secs() as i64))
        .finish();
    let mut answer = session(Some(kept), Some(addresses), None);
    answer.add_cookie(&cookie).map_err(|error| {
        ApiFailure::new(StatusCode::INTERNAL_SERVER_ERROR, "No cookie").why(error.to_string())
    })?;
    Ok(answer)
}

fn addresses(token: &str) -> AddressKeys {
    let (session, secret) = address_keys(token);
    AddressKeys { session, secret }
}

#[utoipa::path(
    operation_id = "getSession",
    summary = "Who is signed in",
    responses((status = 200, body = mostra_api::Session))
)]
#[get("/session")]
async fn show(request: HttpRequest) -> Result<web::Json<Session>, ApiFailure> {
    let (signed_in, token) = identify(&request)?;
    let addresses = token.as_deref().map(addresses);
    let account = signed_in.account().to_owned();
    Ok(web::Json(Session { account, page_secret: None, addresses, token: None }))
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_is_for_an_item_with_all_that_belongs_to_it_or_for_one_path() {
        for (path, object) in [
            ("/api/v1/catalogue/q3_7/file", Some("/catalogue/q3_7")),
            ("/api/v1/catalogue/q3_7/art/5f/sm", Some("/catalogue/q3_7")),
            ("/api/v1/catalogue/q3_70", Some("/catalogue/q3_70")),
            ("/api/v1/records/a.tar/file", Some("/records/a.tar/file")),
            ("/api/v1/support", Some("/support")),
            ("/", None),
        ] {
            assert_eq!(object_of(path), object);
        }
    }
}
