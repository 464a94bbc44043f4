//! The way to the service.

use std::net::{SocketAddr, TcpStream};
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

use mostra_api::Problem;
use reqwest::Method;
use serde::Serialize;
use serde::de::DeserializeOwned;

/// What went wrong, why, and the next step.
#[derive(Debug)]
pub(crate) struct Failure(Problem);

impl Failure {
    /// A failure on our side.
    pub(crate) fn new(title: impl Into<String>, next: &str) -> Failure {
        let next = (!next.is_empty()).then(|| next.to_owned());
        Failure(Problem {
            kind: "about:blank".into(),
            title: title.into(),
            status: 0,
            detail: None,
            next,
        })
    }

    /// Prints it and gives the exit code.
    pub(crate) fn report(&self, json: bool) -> ExitCode {
        if json {
            eprintln!("{}", serde_json::to_string(&self.0).unwrap_or_default());
        } else {
            eprintln!("mostra: {}", self.0.title);
            for line in [&self.0.detail, &self.0.next].into_iter().flatten() {
                eprintln!("  {line}");
            }
        }
        ExitCode::from(1)
    }
}

/// Where the console of a house on this host is: a real one's, and the demo's.
const HOUSES: [&str; 2] = ["127.0.0.1:7641", "127.0.0.1:7741"];

/// The first house on this host that takes a connection; the real one's address where none does.
fn house_here() -> &'static str {
    let answers = |house: &&&str| {
        let address = house.parse::<SocketAddr>().ok();
        let patience = Duration::from_millis(500);
        address.is_some_and(|at| TcpStream::connect_timeout(&at, patience).is_ok())
    };
    HOUSES.iter().find(answers).unwrap_or(&HOUSES[0])
}

/// The name of the file with the token for a console: another for each, so that none is shown the
/// token of another.
fn token_name(base: &str) -> String {
    let place = base.split_once("://").map_or(base, |(_, place)| place);
    if place == HOUSES[0] {
        return "token".into();
    }
    let plain = |c: char| if c.is_ascii_alphanumeric() || c == '.' { c } else { '-' };
    format!("token-{}", place.chars().map(plain).collect::<String>())
}

/// A connection with a token kept in a file that only its owner can read.
#[derive(Debug)]
pub(crate) struct Connection {
    base: String,
    /// Whether a person named the address.
    named: bool,
    token_file: PathBuf,
    client: reqwest::Client,
}

impl Connection {
    /// For a console address and a token file. Without an address: the house that runs on this
    /// host; without a file: that of the console.
    pub(crate) fn new(
        console: Option<&str>,
        token_file: Option<PathBuf>,
    ) -> Result<Connection, Failure> {
        let base = match console {
            Some(console) => console.trim_end_matches('/').to_owned(),
            None => format!("http://{}", house_here()),
        };
        let token_file = token_file.unwrap_or_else(|| {
            let home = std::env::var("HOME").unwrap_or_else(|_| "/root".into());
            let config =
                std::env::var("XDG_CONFIG_HOME").unwrap_or_else(|_| format!("{home}/.config"));
            PathBuf::from(config).join("mostra").join(token_name(&base))
        });
        let client = reqwest::Client::builder()
            .no_proxy()
            .connect_timeout(Duration::from_secs(5))
            .build()
            .map_err(|e| Failure::new(e.to_string(), ""))?;
        Ok(Connection { base, token_file, client, named: console.is_some() })
    }

    /// Reads a resource.
    pub(crate) async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, Failure> {
        self.json(self.send::<()>(Method::GET, path, None).await?).await
    }

    /// Reads a resource with a query.
    pub(crate) async fn ask<T: DeserializeOwned>(
        &self,
        path: &str,
        query: &[(&str, String)],
    ) -> Result<T, Failure> {
        // Only the query's encoding is of use here; the address is put before it later.
        let encoded = reqwest::Url::parse_with_params("http://host/", query)
            .map_err(|e| Failure::new(e.to_string(), ""))?;
        let query = encoded.query().unwrap_or_default();
        self.get(&format!("{path}?{query}")).await
    }

    /// Sends a change and reads the answer.
    pub(crate) async fn change<T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        body: Option<&impl Serialize>,
    ) -> Result<T, Failure> {
        self.json(self.send(method, path, body).await?).await
    }

    /// Removes a resource.
    pub(crate) async fn remove(&self, path: &str) -> Result<(), Failure> {
        self.send::<()>(Method::DELETE, path, None).await.map(drop)
    }

    /// Sets something, of which nothing comes back.
    pub(crate) async fn put(&self, path: &str, body: &impl Serialize) -> Result<(), Failure> {
        self.send(Method::PUT, path, Some(body)).await.map(drop)
    }

    /// Has something done.
    pub(crate) async fn act(&self, path: &str) -> Result<(), Failure> {
        self.send::<()>(Method::POST, path, None).await.map(drop)
    }

    async fn json<T: DeserializeOwned>(&self, answer: reqwest::Response) -> Result<T, Failure> {
        answer.json().await.map_err(|e| {
            Failure::new(
                format!("the service's answer cannot be read: {e}"),
                "Client and service may differ in version.",
            )
        })
    }

    async fn send<B: Serialize>(
        &self,
        method: Method,
        path: &str,
        body: Option<&B>,
    ) -> Result<reqwest::Response, Failure> {
        let mut request = self.client.request(method, format!("{}/api/v1{path}", self.base));
        if let Ok(token) = std::fs::read_to_string(&self.token_file) {
            request = request.bearer_auth(token.trim());
        }
        if let Some(body) = body {
            request = request.json(body);
        }
        let answer = request.send().await.map_err(|error| {
            let why =
                if error.is_connect() { "nothing answers there" } else { "the connection broke" };
            if !self.named && error.is_connect() {
                return Failure::new(
                    format!("no house answers on this host; tried {}", HOUSES.join(" and ")),
                    "Start mostrad, or name another console: --console http://HOST:PORT, or MOSTRA_CONSOLE.",
                );
            }
            Failure::new(
                format!("the service at {} is not reachable: {why}", self.base),
                "Start mostrad, or name its console with --console or MOSTRA_CONSOLE.",
            )
        })?;
        if answer.status().is_success() {
            return Ok(answer);
        }
        let status = answer.status().as_u16();
        let problem: Problem = answer.json().await.unwrap_or(Problem {
            kind: "about:blank".into(),
            title: format!("the service answered with status {status}"),
            status,
            detail: None,
            next: None,
        });
        Err(Failure(problem))
    }

    /// Keeps a token for later calls, in a file of mode 0600.
    pub(crate) fn keep(&self, token: &str) -> Result<PathBuf, Failure> {
        use std::io::Write;
        use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
        let write = || -> std::io::Result<()> {
            if let Some(folder) = self.token_file.parent() {
                std::fs::create_dir_all(folder)?;
            }
            let mut options = std::fs::OpenOptions::new();
            let mut file = options
                .write(true)
                .create(true)
                .truncate(true)
                .mode(0o600)
                .open(&self.token_file)?;
            // A file that was there before keeps its mode, so it is set as well.
            file.set_permissions(std::fs::Permissions::from_mode(0o600))?;
            file.write_all(token.as_bytes())
        };
        write().map_err(|e| {
            Failure::new(
                format!("the token cannot be kept in {}: {e}", self.token_file.display()),
                "Name another file with --token-file.",
            )
        })?;
        Ok(self.token_file.clone())
    }

    /// Drops the kept token.
    pub(crate) fn drop_token(&self) {
        let _ = std::fs::remove_file(&self.token_file);
    }
}
