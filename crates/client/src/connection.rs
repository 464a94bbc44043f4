//! The way to the service.

use crate::output::say;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::Duration;

use mostra_api::Problem;
use reqwest::Method;
use serde::Serialize;
use serde::de::DeserializeOwned;

/// What went wrong, why, and the next step.
#[derive(Debug)]
pub(crate) struct Failure(pub(crate) Problem);

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
            say(&serde_json::to_string(&self.0).unwrap_or_default());
        } else {
            say(&format!("mostra: {}", self.0.title));
            for line in [&self.0.detail, &self.0.next].into_iter().flatten() {
                say(&format!("  {line}"));
            }
        }
        ExitCode::from(1)
    }
}

/// Where the sockets of houses on this host are: that of the installed service, and that of one which
/// this user runs.
fn sockets_here() -> [PathBuf; 2] {
    let home = std::env::var("HOME").unwrap_or_else(|_| "/root".into());
    let own = std::env::var("XDG_DATA_HOME").unwrap_or_else(|_| format!("{home}/.local/share"));
    ["/run/mostra/console.sock".into(), PathBuf::from(own).join("mostra/console.sock")]
}

/// How the service is reached.
#[derive(Debug)]
enum Way {
    /// By a socket on this host: the kernel says who asks.
    Socket(PathBuf),
    /// By the address of its console, with a token.
    Console(String),
}

/// The name of the file with the token for a console: another for each, so that none is shown the
/// token of another.
fn token_name(base: &str) -> String {
    let place = base.split_once("://").map_or(base, |(_, place)| place);
    let plain = |c: char| if c.is_ascii_alphanumeric() || c == '.' { c } else { '-' };
    format!("token-{}", place.chars().map(plain).collect::<String>())
}

/// A connection with a token kept in a file that only its owner can read.
#[derive(Debug)]
pub(crate) struct Connection {
    way: Way,
    token_file: PathBuf,
    client: reqwest::Client,
}

impl Connection {
    /// For a console address, or a socket, and a token file. Without the first two: the house that
    /// runs on this host; without a file: that of the console.
    pub(crate) fn new(
        console: Option<&str>,
        socket: Option<PathBuf>,
        token_file: Option<PathBuf>,
    ) -> Result<Connection, Failure> {
        let here = || {
            let [installed, own] = sockets_here();
            if !installed.exists() && own.exists() { own } else { installed }
        };
        let way = match console {
            Some(console) => Way::Console(console.trim_end_matches('/').to_owned()),
            None => Way::Socket(socket.unwrap_or_else(here)),
        };
        let token_file = token_file.unwrap_or_else(|| {
            let base = match &way {
                Way::Console(base) => base,
                Way::Socket(_) => "",
            };
            let home = std::env::var("HOME").unwrap_or_else(|_| "/root".into());
            let config =
                std::env::var("XDG_CONFIG_HOME").unwrap_or_else(|_| format!("{home}/.config"));
            PathBuf::from(config).join("mostra").join(token_name(base))
        });
        let client = reqwest::Client::builder().no_proxy().connect_timeout(Duration::from_secs(5));
        let client = match &way {
            Way::Socket(path) => client.unix_socket(path.as_path()),
            Way::Console(_) => client,
        };
        let client = client.build().map_err(|e| Failure::new(e.to_string(), ""))?;
        Ok(Connection { way, token_file, client })
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
        let mut request = self.request(method, path);
        if let Some(body) = body {
            request = request.json(body);
        }
        self.answer(request).await
    }

    /// Sends a text.
    pub(crate) async fn send_text<T: DeserializeOwned>(
        &self,
        path: &str,
        text: String,
    ) -> Result<T, Failure> {
        let request = self.request(Method::POST, path);
        let request = request.header(reqwest::header::CONTENT_TYPE, "text/plain").body(text);
        self.json(self.answer(request).await?).await
    }

    /// Sends a file.
    pub(crate) async fn upload<T: DeserializeOwned>(
        &self,
        path: &str,
        kind: &str,
        file: &Path,
    ) -> Result<T, Failure> {
        let unreadable = |error: std::io::Error| {
            Failure::new(
                format!("{} cannot be read: {error}", file.display()),
                "Name a file, or one that `mostra records list` shows.",
            )
        };
        let opened = tokio::fs::File::open(file).await.map_err(unreadable)?;
        let length = opened.metadata().await.map_err(unreadable)?.len();
        let request = self.request(Method::PUT, path).header(reqwest::header::CONTENT_TYPE, kind);
        let request = request.header(reqwest::header::CONTENT_LENGTH, length).body(opened);
        self.json(self.answer(request).await?).await
    }

    /// Fetches a text.
    pub(crate) async fn text(&self, path: &str) -> Result<String, Failure> {
        let answer = self.answer(self.request(Method::GET, path)).await?;
        answer.text().await.map_err(|error| Failure::new(error.to_string(), ""))
    }

    /// Fetches a file, whole or not at all; gives its bytes. It is for its owner only.
    pub(crate) async fn download(&self, path: &str, to: &Path) -> Result<u64, Failure> {
        use tokio::io::AsyncWriteExt as _;
        let mut answer = self.answer(self.request(Method::GET, path)).await?;
        let wanted = answer.content_length();
        let part = PathBuf::from(format!("{}.part", to.display()));
        let written = async {
            let mut options = tokio::fs::OpenOptions::new();
            let mut file =
                options.write(true).create(true).truncate(true).mode(0o600).open(&part).await?;
            let mut bytes = 0;
            while let Some(chunk) = answer.chunk().await.map_err(std::io::Error::other)? {
                file.write_all(&chunk).await?;
                bytes += chunk.len() as u64;
            }
            if wanted.is_some_and(|wanted| wanted != bytes) {
                return Err(std::io::ErrorKind::UnexpectedEof.into());
            }
            file.sync_all().await?;
            tokio::fs::rename(&part, to).await?;
            Ok(bytes)
        };
        let written: std::io::Result<u64> = written.await;
        written.map_err(|error| {
            let _ = std::fs::remove_file(&part);
            Failure::new(
                format!("{} cannot be written: {error}", to.display()),
                "Name another file.",
            )
        })
    }

    fn request(&self, method: Method, path: &str) -> reqwest::RequestBuilder {
        let base = match &self.way {
            Way::Socket(_) => "http://localhost",
            Way::Console(base) => base,
        };
        let request = self.client.request(method, format!("{base}/api/v1{path}"));
        match (&self.way, std::fs::read_to_string(&self.token_file)) {
            (Way::Console(_), Ok(token)) => request.bearer_auth(token.trim()),
            _ => request,
        }
    }

    async fn answer(&self, request: reqwest::RequestBuilder) -> Result<reqwest::Response, Failure> {
        let answer = request.send().await.map_err(|error| {
            let why =
                if error.is_connect() { "nothing answers there" } else { "the connection broke" };
            match &self.way {
                Way::Socket(path) => unreachable_by(path, why),
                Way::Console(base) => Failure::new(
                    format!("the service at {base} is not reachable: {why}"),
                    "Start mostrad, or name its console with --console or MOSTRA_CONSOLE.",
                ),
            }
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

    /// Whether the kernel says who asks, so that nobody signs in.
    pub(crate) fn is_on_host(&self) -> bool {
        matches!(self.way, Way::Socket(_))
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

/// Why a house is not reached by a socket.
fn unreachable_by(path: &Path, why: &str) -> Failure {
    let place = path.display();
    match std::os::unix::net::UnixStream::connect(path) {
        Err(error) if error.kind() == std::io::ErrorKind::PermissionDenied => Failure::new(
            format!("you may not use the house's socket {place}"),
            "Have the administrator let you: sudo adduser NAME mostra-admin, and log in again. Or run it with sudo.",
        ),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Failure::new(
            format!("no house runs on this host: there is no socket {place}"),
            "Start mostrad, or name its socket with --socket or MOSTRA_SOCKET. Or name a console by its address: --console URL, or MOSTRA_CONSOLE.",
        ),
        _ => Failure::new(
            format!("the house at {place} is not reachable: {why}"),
            "Start mostrad: systemctl status mostrad says how it is.",
        ),
    }
}
