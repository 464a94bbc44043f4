//! The service's own configuration: shown with its sources, changed, and taken over by a restart.

use std::sync::Arc;
use std::time::Duration;

use actix_web::http::StatusCode;
use actix_web::{HttpResponse, delete, get, post, put, web};
use mostra_api::{ConfigChange, ConfigValue};
use mostra_store::Records;
use utoipa_actix_web::service_config::ServiceConfig;

use super::body::JsonBody;
use super::problem::ApiFailure;
use super::session::Caller;

/// The configuration, as the program that reads it shows and changes it.
pub trait Configuration: Send + Sync {
    /// Every setting with its value and where that came from.
    fn values(&self) -> Vec<ConfigValue>;

    /// What is wrong in the files, in sentences.
    fn problems(&self) -> Vec<String>;

    /// Takes a value once it is checked, or with `None` gives up one that was chosen here.
    ///
    /// # Errors
    /// [`ConfigError`]; nothing changes then.
    fn set(&self, name: &str, value: Option<&str>) -> Result<ConfigValue, ConfigError>;

    /// Has the service start again.
    fn restart(&self);

    /// The URL of the records that a restart would open.
    ///
    /// # Errors
    /// Why the configuration cannot be read, in a sentence.
    fn next_records(&self) -> Result<String, String>;
}

/// Why a setting was not changed.
#[derive(Debug, thiserror::Error)]
pub enum ConfigError {
    /// There is no such setting.
    #[error("there is no such setting")]
    Unknown {
        /// Those that may be meant.
        near: Vec<&'static str>,
    },
    /// The value does not do.
    #[error("{what}")]
    Refused {
        /// What is wrong.
        what: String,
        /// What a person can do about it.
        next: String,
    },
}

impl From<ConfigError> for ApiFailure {
    fn from(error: ConfigError) -> ApiFailure {
        match error {
            ConfigError::Unknown { near } => {
                let failure = ApiFailure::new(StatusCode::NOT_FOUND, "There is no such setting");
                match near.is_empty() {
                    true => failure.next("mostra config show lists all settings."),
                    false => failure.next(format!("Did you mean {}?", near.join(" or "))),
                }
            }
            ConfigError::Refused { what, next } => {
                ApiFailure::invalid("The setting is as it was").why(what).next(next)
            }
        }
    }
}

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config.service(show).service(set).service(reset).service(restart);
}

#[utoipa::path(
    operation_id = "getConfig",
    summary = "Configuration, with where each value came from",
    responses((status = 200, body = Vec<mostra_api::ConfigValue>))
)]
#[get("/config")]
async fn show(_: Caller, config: web::Data<dyn Configuration>) -> web::Json<Vec<ConfigValue>> {
    web::Json(config.values())
}

async fn changed(
    config: web::Data<dyn Configuration>,
    name: String,
    value: Option<String>,
) -> Result<web::Json<ConfigValue>, ApiFailure> {
    let config: Arc<dyn Configuration> = config.into_inner();
    let setting = move || config.set(&name, value.as_deref());
    let done = tokio::task::spawn_blocking(setting).await;
    let done = done.map_err(|_| ApiFailure::invalid("The setting is as it was"))?;
    Ok(web::Json(done?))
}

#[utoipa::path(
    operation_id = "setConfig",
    summary = "Change a setting; it is checked first",
    request_body = mostra_api::ConfigChange,
    responses((status = 200, body = mostra_api::ConfigValue))
)]
#[put("/config/{name}")]
async fn set(
    _: Caller,
    name: web::Path<String>,
    change: JsonBody<ConfigChange>,
    config: web::Data<dyn Configuration>,
) -> Result<web::Json<ConfigValue>, ApiFailure> {
    changed(config, name.into_inner(), Some(change.0.value)).await
}

#[utoipa::path(
    operation_id = "resetConfig",
    summary = "Give up a change that was made here; the file's value or the default counts again",
    responses((status = 200, body = mostra_api::ConfigValue))
)]
#[delete("/config/{name}")]
async fn reset(
    _: Caller,
    name: web::Path<String>,
    config: web::Data<dyn Configuration>,
) -> Result<web::Json<ConfigValue>, ApiFailure> {
    changed(config, name.into_inner(), None).await
}

#[utoipa::path(
    operation_id = "restart",
    summary = "Restart the service: streams end, and changed settings take effect",
    responses((status = 202))
)]
#[post("/restart")]
async fn restart(
    _: Caller,
    config: web::Data<dyn Configuration>,
) -> Result<HttpResponse, ApiFailure> {
    may_come_back(&**config).await?;
    let config = config.into_inner();
    // The answer goes out first.
    tokio::spawn(async move {
        tokio::time::sleep(Duration::from_millis(200)).await;
        config.restart();
    });
    Ok(HttpResponse::Accepted().finish())
}

/// Sees to it that a service that is started again now would come back: where nobody else starts it,
/// one that does not leaves the house off.
///
/// # Errors
/// 409 with what stands in its way.
pub(crate) async fn may_come_back(config: &dyn Configuration) -> Result<(), ApiFailure> {
    let refused = ApiFailure::new(StatusCode::CONFLICT, "Not restarted: it would not come back");
    let url = match config.next_records() {
        Ok(url) => url,
        Err(why) => return Err(refused.why(why).next("Correct the configuration file first.")),
    };
    match Records::can_be_reached(&url).await {
        Ok(()) => Ok(()),
        Err(error) => {
            tracing::warn!("not restarted: {error}");
            let (why, next) = match error.not_now() {
                Some(cause) => (cause.sentence(), cause.remedy()),
                None => ("The records cannot be opened.", "The service's log says why."),
            };
            Err(refused.why(why).next(format!("{next} All goes on as it is meanwhile.")))
        }
    }
}
