//! PostgreSQL for tests, through scripts/postgres.

use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::sync::OnceLock;

use crate::top;

/// A cluster of a test's own, in a directory that goes with it.
pub struct Cluster {
    /// The data directory that scripts/postgres is given.
    pub data: PathBuf,
    _kept: Option<tempfile::TempDir>,
}

impl Cluster {
    /// In a new directory.
    ///
    /// # Panics
    /// When that cannot be made.
    pub fn new() -> Cluster {
        let kept = tempfile::Builder::new().prefix("mostra-pg").tempdir().expect("a directory");
        let mut cluster = Cluster::below(kept.path());
        cluster._kept = Some(kept);
        cluster
    }

    /// Below a directory that the server's user may enter from now on.
    ///
    /// # Panics
    /// When that cannot be written.
    pub fn below(directory: &Path) -> Cluster {
        use std::os::unix::fs::PermissionsExt as _;
        let open = std::fs::Permissions::from_mode(0o755);
        std::fs::set_permissions(directory, open).expect("a directory of ours");
        let data = directory.join("data");
        std::fs::create_dir_all(data.join("postgres")).expect("a directory");
        std::fs::write(
            data.join("postgres/place"),
            directory.join("cluster").to_str().expect("text"),
        )
        .expect("a place");
        Cluster { data, _kept: None }
    }

    /// The directory of PostgreSQL's files.
    pub fn place(&self) -> PathBuf {
        let place = std::fs::read_to_string(self.data.join("postgres/place"));
        place.expect("the cluster's place").trim().into()
    }

    /// Runs scripts/postgres.
    ///
    /// # Panics
    /// When it cannot be run.
    pub fn script(&self, verb: &str, change: impl FnOnce(&mut Command)) -> Output {
        let mut command = Command::new(top().join("scripts/postgres"));
        command.arg(verb).arg(&self.data);
        change(&mut command);
        command.output().expect("scripts/postgres runs")
    }

    /// Starts it and gives its URL; one that is not `fast` is as safe as a house's own.
    ///
    /// # Panics
    /// When it does not start.
    pub fn start(&self, fast: bool) -> String {
        start_postgres(&self.data, fast)
    }

    /// Stops it.
    ///
    /// # Panics
    /// When it does not stop.
    pub fn stop(&self) {
        let stopped = self.script("stop", |_| ());
        assert!(stopped.status.success(), "{}", String::from_utf8_lossy(&stopped.stderr));
    }

    /// Ends the server and all its processes at once.
    ///
    /// # Panics
    /// When there is none.
    pub fn kill(&self) {
        let place = self.place();
        let killed = Command::new("pkill").arg("-9").arg("-f").arg(&place).status();
        assert!(killed.expect("pkill runs").success(), "a server to kill");
    }
}

impl Default for Cluster {
    fn default() -> Self {
        Cluster::new()
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        self.script("stop", |_| ());
    }
}

/// Where the shared server has a socket for services that run as another user. Each checkout has
/// its own, so that the tests of two can run at once.
fn socket_for_all() -> String {
    use std::hash::{Hash as _, Hasher as _};
    let mut hasher = std::hash::DefaultHasher::new();
    top().hash(&mut hasher);
    format!("/run/mostra-test-{:08x}", hasher.finish() as u32)
}

/// Starts the cluster of a data directory and gives its URL.
///
/// # Panics
/// When it does not start.
pub fn start_postgres(data: &Path, fast: bool) -> String {
    let mut command = Command::new(top().join("scripts/postgres"));
    command.arg("start").arg(data);
    if fast {
        command.env("MOSTRA_POSTGRES_FAST", "1");
        if data == top().join("target/test-house") {
            command.env("MOSTRA_POSTGRES_SOCKET", socket_for_all());
        }
    }
    let output = command.output().expect("scripts/postgres runs");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).expect("a URL").trim().to_owned()
}

/// The URL by which the shared server's role tries saved records.
///
/// # Panics
/// When the shared server was not started.
pub fn check_url() -> String {
    let path = top().join("target/test-house/postgres/check-url");
    std::fs::read_to_string(path).expect("the shared server's check-url").trim().to_owned()
}

/// The same URL by the socket for all users.
pub fn by_socket_for_all(url: &str) -> String {
    let (before, rest) = url.split_once("?host=").expect("a URL of scripts/postgres");
    let (_, port) = rest.split_once("&port=").expect("a URL of scripts/postgres");
    format!("{before}?host={}&port={port}", socket_for_all())
}

/// psql in the database of a URL, whose password stands in no argument.
///
/// # Panics
/// When the URL is none of scripts/postgres.
pub fn psql(url: &str) -> Command {
    let parts = url.strip_prefix("postgres://").and_then(|rest| {
        let (user, rest) = rest.split_once(':')?;
        let (password, rest) = rest.split_once("@localhost/")?;
        let (database, rest) = rest.split_once("?host=")?;
        let (host, port) = rest.split_once("&port=")?;
        Some([
            ("PGUSER", user),
            ("PGPASSWORD", password),
            ("PGDATABASE", database),
            ("PGHOST", host),
            ("PGPORT", port),
        ])
    });
    let mut command = Command::new(psql_program());
    command.arg("-X").envs(parts.expect("a URL of scripts/postgres"));
    command
}

/// Debian's `psql` is a script that looks for the newest program; asked so many times, that shows.
fn psql_program() -> &'static Path {
    static PROGRAM: OnceLock<PathBuf> = OnceLock::new();
    PROGRAM.get_or_init(|| {
        let versions = std::fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
        let programs = versions.map(|version| version.path().join("bin/psql"));
        programs.filter(|program| program.exists()).max().unwrap_or_else(|| "psql".into())
    })
}

/// The URL of another database of the same server.
pub fn another_database(url: &str, name: &str) -> String {
    url.replace("localhost/mostra?", &format!("localhost/{name}?"))
}

/// What a statement gives.
///
/// # Panics
/// When it fails.
pub fn query(url: &str, statement: &str) -> String {
    let output = psql(url).args(["-Atqc", statement]).output().expect("psql runs");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).trim().to_owned()
}
