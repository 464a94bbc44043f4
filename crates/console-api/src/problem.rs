//! Errors as problem documents (RFC 9457).

use std::fmt;
use std::path::Path;

use actix_web::error::{PathError, QueryPayloadError};
use actix_web::http::{StatusCode, header};
use actix_web::{HttpRequest, HttpResponse, ResponseError};
use mostra_api::Problem;
use mostra_app::accounts::AccountError;
use mostra_app::library::{FolderError, Library};
use mostra_core::rights::Obstacle;
use mostra_store::StoreError;

/// Seconds after which it is worth to try again what cannot be done now.
const RETRY_AFTER: &str = "2";

/// An error answer: what, why, and the next step.
#[derive(Debug)]
pub(crate) struct ApiFailure(Problem);

impl ApiFailure {
    /// A failure with a status and what happened.
    pub(crate) fn new(status: StatusCode, title: &str) -> ApiFailure {
        ApiFailure(Problem {
            kind: "about:blank".into(),
            title: title.into(),
            status: status.as_u16(),
            detail: None,
            next: None,
        })
    }

    /// Adds why.
    pub(crate) fn why(mut self, detail: impl Into<String>) -> ApiFailure {
        self.0.detail = Some(detail.into());
        self
    }

    /// Adds what to do next.
    pub(crate) fn next(mut self, next: impl Into<String>) -> ApiFailure {
        self.0.next = Some(next.into());
        self
    }

    /// 422: the request was understood and cannot be carried out.
    pub(crate) fn invalid(title: &str) -> ApiFailure {
        ApiFailure::new(StatusCode::UNPROCESSABLE_ENTITY, title)
    }

    /// 404.
    pub(crate) fn missing(title: &str) -> ApiFailure {
        ApiFailure::new(StatusCode::NOT_FOUND, title)
    }

    /// 404 for what is not in the catalogue; 503 as long as that is not loaded, as it may be.
    pub(crate) fn not_in(library: &Library, title: &str) -> ApiFailure {
        match library.shared().is_loaded() {
            true => ApiFailure::missing(title),
            false => FolderError::Loading.into(),
        }
    }
}

impl fmt::Display for ApiFailure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0.title)
    }
}

impl ResponseError for ApiFailure {
    fn status_code(&self) -> StatusCode {
        StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }

    fn error_response(&self) -> HttpResponse {
        let body = serde_json::to_string(&self.0).unwrap_or_default();
        let mut answer = HttpResponse::build(self.status_code());
        if self.status_code() == StatusCode::SERVICE_UNAVAILABLE {
            answer.insert_header((header::RETRY_AFTER, RETRY_AFTER));
        }
        answer.content_type("application/problem+json").body(body)
    }
}

impl From<StoreError> for ApiFailure {
    fn from(error: StoreError) -> ApiFailure {
        tracing::warn!("not saved: {error}");
        let failure = ApiFailure::new(StatusCode::SERVICE_UNAVAILABLE, "Not saved");
        match error {
            StoreError::NotNow(cause, _) => failure.why(cause.sentence()).next(format!(
                "{} Then do it once more; watching goes on meanwhile.",
                cause.remedy()
            )),
            StoreError::Refused(_)
            | StoreError::Held(_)
            | StoreError::Damaged(_)
            | StoreError::Later(_)
            | StoreError::NotMigrated(_) => failure
                .why("The database refused it; the service's log has the details.")
                .next("`mostra support` saves the log, and what else helps to find out why."),
        }
    }
}

impl From<AccountError> for ApiFailure {
    fn from(error: AccountError) -> ApiFailure {
        let lost = "A lost password is reset on the host: mostrad account reset";
        match error {
            AccountError::Store(error) => error.into(),
            AccountError::Busy => {
                ApiFailure::new(StatusCode::SERVICE_UNAVAILABLE, "Too many sign in at once")
                    .next("Try again in a moment.")
            }
            AccountError::TooManyAttempts => {
                ApiFailure::new(StatusCode::TOO_MANY_REQUESTS, "Too many wrong passwords")
                    .next("Wait ten seconds and try again.")
            }
            AccountError::ShortPassword => ApiFailure::invalid("That password is too short")
                .next("Take at least 8 characters."),
            AccountError::LongPassword => ApiFailure::invalid("That password is too long"),
            AccountError::UnusablePassword(why) => {
                ApiFailure::invalid("The password cannot be used").why(why.to_string())
            }
            AccountError::Name => ApiFailure::invalid("That name does not work").why(
                "A name is up to 40 letters, digits, - _ or ., and begins with a letter or digit.",
            ),
            AccountError::Code => {
                ApiFailure::new(StatusCode::FORBIDDEN, "The code is wrong or has run out")
                    .next("Run `mostra console code` on the host and type what it shows.")
            }
            AccountError::Exists => {
                ApiFailure::new(StatusCode::CONFLICT, "There is an account of that name")
                    .next("Sign in instead.")
            }
            AccountError::Missing => ApiFailure::missing("There is no account of that name")
                .next("`mostra account list` shows all."),
            AccountError::OnlyOne => {
                ApiFailure::new(StatusCode::CONFLICT, "It is the only account")
                    .why("Without one nobody could sign in.")
                    .next("Make another first, with a code from `mostra console code`.")
            }
            AccountError::WrongPassword => {
                ApiFailure::new(StatusCode::UNAUTHORIZED, "The name or the password is wrong")
                    .next(lost)
            }
            AccountError::WrongCurrent => {
                ApiFailure::new(StatusCode::FORBIDDEN, "The current password is wrong").next(lost)
            }
            AccountError::NoSession => ApiFailure::missing("There is no such session")
                .next("`mostra account sessions` shows all."),
        }
    }
}

/// Names the one directory that stops the service, and the command that opens that one.
fn no_rights(path: &Path, stopped: Option<(Obstacle, String)>) -> ApiFailure {
    let failure = ApiFailure::invalid("No rights to read the folder");
    match stopped {
        Some((obstacle, command)) => failure
            .why(match obstacle.is_folder {
                true => format!("The service's user may not read {}.", obstacle.path),
                false => format!(
                    "The service's user may not go through {}, which is on the way to it.",
                    obstacle.path
                ),
            })
            .next(format!("Open that one to the service's group, then try again: {command}")),
        None => failure
            .why(format!("The service's user may not read {}.", path.display()))
            .next("Its permission bits allow it: look for an access list (getfacl) or a mount option that does not."),
    }
}

impl From<FolderError> for ApiFailure {
    fn from(error: FolderError) -> ApiFailure {
        let conflict = |title: &str| ApiFailure::new(StatusCode::CONFLICT, title);
        match error {
            FolderError::Store(error) => error.into(),
            FolderError::Loading => {
                ApiFailure::new(StatusCode::SERVICE_UNAVAILABLE, "The catalogue is still loading")
                    .next("Try again in a moment.")
            }
            FolderError::Missing => ApiFailure::missing("No such folder")
                .next("`mostra folder list` shows what is published."),
            FolderError::Relative => ApiFailure::invalid("The path is not absolute")
                .next("Give the whole path, from / on."),
            FolderError::NotThere(path) => ApiFailure::invalid("There is no such folder")
                .why(format!("{} does not exist on the host.", path.display())),
            FolderError::NoDirectory(path) => ApiFailure::invalid("That is not a folder")
                .why(format!("{} is a file.", path.display())),
            FolderError::NoRights { path, stopped } => no_rights(&path, stopped),
            FolderError::Unreadable(error) => {
                ApiFailure::invalid("The folder cannot be read").why(error.to_string())
            }
            FolderError::Other { path, folder, looked_for, found } => {
                ApiFailure::new(StatusCode::CONFLICT, "That is another folder")
                    .why(format!("Of {looked_for} files that are recorded of {:?}, {found} are below {path}.", folder.label))
                    .next("Choose the directory that holds what the folder held. Taken all the same (--anyway), what is not there counts as gone.")
            }
            FolderError::Scanned => conflict("A scan of the folder does not end")
                .next("Try again in a moment."),
            FolderError::System => ApiFailure::invalid("That folder holds the system itself")
                .next("Choose the folder with the media."),
            FolderError::Own => ApiFailure::invalid("That is the service's own directory")
                .why("It holds keys and records of the house.")
                .next("Choose the folder with the media."),
            FolderError::NoText => ApiFailure::invalid("The folder's path is not valid text")
                .next("Rename it to plain UTF-8."),
            FolderError::Label => ApiFailure::invalid("That label does not work")
                .why("A label is 1 to 63 characters on one line."),
            FolderError::Published { path, other } => conflict("The folder is already published")
                .why(format!("{path} is {:?}.", other.label)),
            FolderError::Inside { path, other } => {
                conflict("The folder lies in one that is published").why(format!(
                    "{path} lies in {:?} ({}), so its files are there already.",
                    other.label, other.root
                ))
            }
            FolderError::Around { other } => conflict("The folder holds one that is published")
                .why(format!(
                    "{:?} ({}) lies in it. Remove that first to publish the whole.",
                    other.label, other.root
                )),
            FolderError::Outside { path, folder } => {
                ApiFailure::invalid("That is no place in the folder")
                    .why(format!("{path} does not lie in {}.", folder.root))
            }
            FolderError::NoSubFolder { path, folder } => {
                ApiFailure::invalid("There is no such sub-folder")
                    .why(format!("{path:?} is no directory in {}.", folder.root))
                    .next("Its path starts below the folder, as Films/Old.")
            }
            FolderError::WholeLeftOut => ApiFailure::invalid("The whole folder cannot be left out")
                .next("Remove the folder instead."),
            FolderError::NoScan => conflict("No scan is running"),
        }
    }
}

/// A query that does not fit.
pub(crate) fn unreadable_query(error: QueryPayloadError, _: &HttpRequest) -> actix_web::Error {
    ApiFailure::new(StatusCode::BAD_REQUEST, "The request cannot be read")
        .why(error.to_string())
        .into()
}

/// A path whose number is none.
pub(crate) fn unreadable_path(error: PathError, _: &HttpRequest) -> actix_web::Error {
    ApiFailure::missing("No such path").why(error.to_string()).into()
}
