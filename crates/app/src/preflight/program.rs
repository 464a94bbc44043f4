//! Asking the system's own programs.

use std::process::Stdio;
use std::time::Duration;

use tokio::io::AsyncReadExt as _;
use tokio::process::Command;

/// How long a program may take.
const PATIENCE: Duration = Duration::from_secs(5);

/// What a program prints, at most so many bytes; `None` where it is not there, fails or hangs.
pub(super) async fn output(program: &str, arguments: &[&str], most: usize) -> Option<String> {
    let run = async {
        let mut child = Command::new(program)
            .args(arguments)
            .env("LC_ALL", "C")
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .kill_on_drop(true)
            .spawn()
            .ok()?;
        let mut bytes = Vec::new();
        let printed = child.stdout.take()?;
        printed.take(most as u64 + 1).read_to_end(&mut bytes).await.ok()?;
        if bytes.len() > most {
            return None;
        }
        let ended = child.wait().await.ok()?;
        ended.success().then(|| String::from_utf8_lossy(&bytes).into_owned())
    };
    tokio::time::timeout(PATIENCE, run).await.ok()?
}

/// The same in one line.
pub(super) async fn line(program: &str, arguments: &[&str]) -> Option<String> {
    let text = output(program, arguments, 64 << 10).await?;
    text.lines().next().map(|line| line.trim().to_owned()).filter(|line| !line.is_empty())
}
