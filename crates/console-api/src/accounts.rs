//! Accounts and their sessions: who has one, and ending what somebody should have no longer.

use actix_web::{HttpRequest, HttpResponse, delete, get, post, put, web};
use mostra_api::{Account, AccountSession, AccountUse, NewAccount, NewPassword, Preferences};
use mostra_app::accounts::{Accounts, FIRST, session_id, token_hash};
use mostra_app::clock::ms;
use utoipa_actix_web::service_config::ServiceConfig;

use super::Side;
use super::body::JsonBody;
use super::guard::ListenerAddress;
use super::problem::ApiFailure;
use super::session::{Caller, source_of, token_of};

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config
        .service(list)
        .service(add)
        .service(remove)
        .service(set_password)
        .service(end_all)
        .service(list_sessions)
        .service(show_preferences)
        .service(prefer)
        .service(end);
}

/// Makes an account: the first by the host's socket, or with the code that the host prints; any other
/// with a one-time code.
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
    body: JsonBody<NewAccount>,
    accounts: web::Data<Accounts>,
    place: web::Data<ListenerAddress>,
) -> Result<HttpResponse, ApiFailure> {
    let NewAccount { name, password, code } = body.0;
    let name = name.unwrap_or_else(|| FIRST.into());
    let (source, on_host) = (source_of(&request)?, place.side == Side::Host);
    accounts.add(source, on_host, &name, password, code.as_deref()).await?;
    Ok(HttpResponse::Created().json(Account { name }))
}

#[utoipa::path(
    operation_id = "getPreferences",
    summary = "How the account that asks wants the console shown",
    responses((status = 200, body = Preferences))
)]
#[get("/preferences")]
async fn show_preferences(
    caller: Caller,
    accounts: web::Data<Accounts>,
) -> Result<web::Json<Preferences>, ApiFailure> {
    let text = accounts.preferences(caller.0.account()).await?;
    // What an earlier version wrote is no reason to fail.
    Ok(web::Json(text.and_then(|text| serde_json::from_str(&text).ok()).unwrap_or_default()))
}

#[utoipa::path(
    operation_id = "setPreferences",
    summary = "Set how the account that asks wants the console shown",
    request_body = Preferences,
    responses((status = 200, body = Preferences))
)]
#[put("/preferences")]
async fn prefer(
    caller: Caller,
    body: JsonBody<Preferences>,
    accounts: web::Data<Accounts>,
) -> Result<web::Json<Preferences>, ApiFailure> {
    let text = serde_json::to_string(&body.0).unwrap_or_default();
    accounts.set_preferences(caller.0.account(), &text).await?;
    Ok(web::Json(body.0))
}

#[utoipa::path(
    operation_id = "listAccounts",
    summary = "Accounts, and how many sessions each has",
    responses((status = 200, body = Vec<mostra_api::AccountUse>))
)]
#[get("/accounts")]
async fn list(
    caller: Caller,
    accounts: web::Data<Accounts>,
) -> Result<web::Json<Vec<AccountUse>>, ApiFailure> {
    let own = caller.0.account();
    let all = accounts.list().await?.into_iter().map(|(name, sessions)| AccountUse {
        sessions: sessions as u32,
        you: name == own,
        name,
    });
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
    accounts: web::Data<Accounts>,
) -> Result<HttpResponse, ApiFailure> {
    accounts.remove(&name).await?;
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
    body: JsonBody<NewPassword>,
    accounts: web::Data<Accounts>,
) -> Result<HttpResponse, ApiFailure> {
    let NewPassword { password, current } = body.0;
    let token = token_of(&request).filter(|_| caller.0.account() == *name);
    let own = token.map(|token| (current, token_hash(&token)));
    accounts.set_password(source_of(&request)?, &name, password, own).await?;
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
    accounts: web::Data<Accounts>,
) -> Result<HttpResponse, ApiFailure> {
    accounts.end_sessions_of(&name).await?;
    tracing::info!(who = caller.0.account(), "the sessions of {name:?} were ended");
    Ok(HttpResponse::NoContent().finish())
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
    accounts: web::Data<Accounts>,
) -> web::Json<Vec<AccountSession>> {
    let own = token_of(&request).map(|token| token_hash(&token));
    let all = accounts.sessions().into_iter().map(|session| AccountSession {
        id: session_id(&session),
        program: session.program,
        began_ms: ms(session.began),
        expires_ms: ms(session.expires),
        you: Some(session.token_hash) == own,
        account: session.account,
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
    accounts: web::Data<Accounts>,
) -> Result<HttpResponse, ApiFailure> {
    accounts.end_session(&wanted).await?;
    tracing::info!(who = caller.0.account(), "a session was ended");
    Ok(HttpResponse::NoContent().finish())
}
