//! Accounts and their sessions: who has one, and ending what somebody should have no longer.

use std::sync::PoisonError;

use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, delete, get, post, put, web};
use mostra_api::{Account, AccountSession, AccountUse, NewAccount, NewPassword};
use mostra_core::account::Session;
use utoipa_actix_web::service_config::ServiceConfig;

use super::Side;
use super::access::ConsoleDoor;
use super::body::Body;
use super::guard::Place;
use super::password::{self, Attempts};
use super::problem::Failure;
use super::session::{Caller, FIRST, token_of};
use crate::clock::ms;
use crate::house::House;

pub fn routes(config: &mut ServiceConfig<'_>) {
    config
        .service(list)
        .service(add)
        .service(remove)
        .service(set_password)
        .service(end_all)
        .service(list_sessions)
        .service(end);
}

fn missing() -> Failure {
    Failure::missing("There is no account of that name").next("`mostra account list` shows all.")
}

/// Ends sessions here; those in the records are ended by whoever calls this.
fn forget_sessions(house: &House, gone: impl Fn(&Session) -> bool) {
    let mut sessions = house.sessions.lock().unwrap_or_else(PoisonError::into_inner);
    sessions.retain(|_, session| !gone(session));
}

/// Makes an account: the first from loopback without a code, any other with one.
#[utoipa::path(
    operation_id = "addAccount",
    summary = "Make an account",
    request_body = mostra_api::NewAccount,
    responses((status = 201, body = mostra_api::Account)),
    security(())
)]
#[post("/accounts")]
async fn add(
    request: HttpRequest,
    body: Body<NewAccount>,
    house: web::Data<House>,
    place: web::Data<Place>,
    door: web::Data<ConsoleDoor>,
    attempts: web::Data<Attempts>,
) -> Result<HttpResponse, Failure> {
    let source =
        request.peer_addr().map(|p| p.ip()).ok_or_else(|| Failure::invalid("Unknown sender"))?;
    let NewAccount { name, password, code } = body.0;
    let name = name.unwrap_or_else(|| FIRST.into());
    if !is_account_name(&name) {
        return Err(Failure::invalid("That name does not work").why(
            "A name is up to 40 letters, digits, - _ or ., and begins with a letter or digit.",
        ));
    }
    password::check(&password)?;
    attempts.begin(source)?;
    let first = !house.records.has_accounts().await?;
    let trusted = first && place.side == Side::Loopback;
    if !trusted && !door.use_code(code.as_deref().unwrap_or_default()) {
        return Err(Failure::new(StatusCode::FORBIDDEN, "The code is wrong or has run out")
            .next("Run `mostra house code` on the host and type what it shows."));
    }
    attempts.succeeded(source);
    let hash = password::hash(password).await?;
    if !house.records.add_account(&name, &hash).await? {
        return Err(Failure::new(StatusCode::CONFLICT, "There is an account of that name")
            .next("Sign in instead."));
    }
    Ok(HttpResponse::Created().json(Account { name }))
}

#[utoipa::path(
    operation_id = "listAccounts",
    summary = "Accounts, and how many sessions each has",
    responses((status = 200, body = Vec<mostra_api::AccountUse>))
)]
#[get("/accounts")]
async fn list(
    caller: Caller,
    house: web::Data<House>,
) -> Result<web::Json<Vec<AccountUse>>, Failure> {
    let names = house.records.accounts().await?;
    let now = house.session_time();
    let sessions = house.sessions.lock().unwrap_or_else(PoisonError::into_inner);
    let of = |name: &str| {
        let its = sessions.values().filter(|s| s.account == name && s.expires > now);
        its.count() as u32
    };
    let own = caller.0.account();
    let all =
        names.into_iter().map(|name| AccountUse { sessions: of(&name), you: name == own, name });
    Ok(web::Json(all.collect()))
}

#[utoipa::path(
    operation_id = "removeAccount",
    summary = "Remove an account with its sessions; never the last one",
    responses((status = 204))
)]
#[delete("/accounts/{name}")]
async fn remove(
    caller: Caller,
    name: web::Path<String>,
    house: web::Data<House>,
) -> Result<HttpResponse, Failure> {
    let name = name.into_inner();
    let names = house.records.accounts().await?;
    if !names.contains(&name) {
        return Err(missing());
    }
    if names.len() == 1 {
        return Err(Failure::new(StatusCode::CONFLICT, "It is the only account")
            .why("Without one nobody could sign in.")
            .next("Make another first, with a code from `mostra house code`."));
    }
    if !house.records.remove_account(&name).await? {
        return Err(missing());
    }
    forget_sessions(&house, |session| session.account == name);
    tracing::info!(who = caller.0.account(), "the account {name:?} was removed");
    Ok(HttpResponse::NoContent().finish())
}

/// Sets a password; all sessions of the account end but the one that asked for it.
#[utoipa::path(
    operation_id = "setPassword",
    summary = "Set a password; other sessions of the account end",
    request_body = mostra_api::NewPassword,
    responses((status = 204))
)]
#[put("/accounts/{name}/password")]
async fn set_password(
    request: HttpRequest,
    caller: Caller,
    name: web::Path<String>,
    body: Body<NewPassword>,
    house: web::Data<House>,
    attempts: web::Data<Attempts>,
) -> Result<HttpResponse, Failure> {
    let source =
        request.peer_addr().map(|p| p.ip()).ok_or_else(|| Failure::invalid("Unknown sender"))?;
    let NewPassword { password, current } = body.0;
    password::check(&password)?;
    let recorded = house.records.password_hash(&name).await?.ok_or_else(missing)?;
    if caller.0.account() == *name {
        // Whoever finds a console left open must not take the account over.
        attempts.begin(source)?;
        if !password::fits(Some(recorded), current.unwrap_or_default()).await? {
            return Err(Failure::new(StatusCode::FORBIDDEN, "The password until now is wrong")
                .next("A lost one is reset on the host: mostrad account reset"));
        }
        attempts.succeeded(source);
    }
    let hash = password::hash(password).await?;
    let kept = token_of(&request).filter(|_| caller.0.account() == *name);
    if !house.records.set_password(&name, &hash, kept.as_ref()).await? {
        return Err(missing());
    }
    forget_sessions(&house, |s| s.account == *name && Some(s.token_hash) != kept);
    tracing::info!(who = caller.0.account(), "the account {name:?} has another password");
    Ok(HttpResponse::NoContent().finish())
}

#[utoipa::path(
    operation_id = "endSessions",
    summary = "End all sessions of an account",
    responses((status = 204))
)]
#[delete("/accounts/{name}/sessions")]
async fn end_all(
    caller: Caller,
    name: web::Path<String>,
    house: web::Data<House>,
) -> Result<HttpResponse, Failure> {
    if house.records.password_hash(&name).await?.is_none() {
        return Err(missing());
    }
    house.records.remove_sessions_of(&name).await?;
    forget_sessions(&house, |session| session.account == *name);
    tracing::info!(who = caller.0.account(), "the sessions of {name:?} were ended");
    Ok(HttpResponse::NoContent().finish())
}

/// Whether a new account may have a name. It stands in paths, where `..` means something else.
pub fn is_account_name(name: &str) -> bool {
    name.len() <= 40
        && name.starts_with(char::is_alphanumeric)
        && name.chars().all(|c| c.is_alphanumeric() || "-_.".contains(c))
}

/// A session's name: enough of its hash to tell it from others, and nothing by which to use it.
fn id(session: &Session) -> String {
    session.token_hash[..8].iter().map(|byte| format!("{byte:02x}")).collect()
}

#[utoipa::path(
    operation_id = "listSessions",
    summary = "Sessions that have not ended",
    responses((status = 200, body = Vec<mostra_api::AccountSession>))
)]
#[get("/sessions")]
async fn list_sessions(
    request: HttpRequest,
    _: Caller,
    house: web::Data<House>,
) -> web::Json<Vec<AccountSession>> {
    let (own, now) = (token_of(&request), house.session_time());
    let kept = house.sessions.lock().unwrap_or_else(PoisonError::into_inner);
    let mut live: Vec<&Session> = kept.values().filter(|session| session.expires > now).collect();
    live.sort_by_key(|session| (session.account.clone(), session.began));
    let all = live.into_iter().map(|session| AccountSession {
        id: id(session),
        account: session.account.clone(),
        program: session.program,
        began_ms: ms(session.began),
        expires_ms: ms(session.expires),
        you: Some(session.token_hash) == own,
    });
    web::Json(all.collect())
}

#[utoipa::path(
    operation_id = "endSession",
    summary = "End a session",
    responses((status = 204))
)]
#[delete("/sessions/{id}")]
async fn end(
    caller: Caller,
    wanted: web::Path<String>,
    house: web::Data<House>,
) -> Result<HttpResponse, Failure> {
    let found = {
        let sessions = house.sessions.lock().unwrap_or_else(PoisonError::into_inner);
        sessions.values().find(|session| id(session) == *wanted).map(|s| s.token_hash)
    };
    let missing = || {
        Failure::missing("There is no such session").next("`mostra account sessions` shows all.")
    };
    let hash = found.ok_or_else(missing)?;
    house.records.remove_session(&hash).await?;
    forget_sessions(&house, |session| session.token_hash == hash);
    tracing::info!(who = caller.0.account(), "a session was ended");
    Ok(HttpResponse::NoContent().finish())
}
