//! Programs from outside that read media: with bounds on their memory, processor time, output
//! and patience, without a shell, and without input names that could be read as anything else
//! than a file (SEC-15).

use std::io::Read as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Bytes of memory, and seconds of a processor.
const MEMORY: u64 = 4 << 30;
const PROCESSOR: u64 = 60;
/// Bytes of output.
const OUTPUT: u64 = 32 << 20;

/// A program, run within bounds by Debian's prlimit.
pub(crate) fn program(name: &str) -> Command {
    let mut command = Command::new("prlimit");
    command.args([format!("--as={MEMORY}"), format!("--cpu={PROCESSOR}"), "--core=0".into()]);
    command.args(["--", name]);
    command
}

/// Whether a program is there and runs.
pub(crate) fn is_there(name: &str) -> bool {
    let mut command = program(name);
    let quiet = command.arg("-version").stdout(Stdio::null()).stderr(Stdio::null());
    quiet.status().is_ok_and(|s| s.success())
}

/// A file's path with its scheme, so that no name is taken for something else than a file.
pub(crate) fn named(path: &Path) -> Option<String> {
    Some(format!("file:{}", path.to_str()?))
}

/// What a program prints; `None` if it fails, prints too much or takes longer than `patience`.
pub(crate) fn output(mut command: Command, patience: Duration) -> Option<Vec<u8>> {
    let quiet = command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null());
    let mut child = quiet.spawn().ok()?;
    let pipe = child.stdout.take()?;
    let reader = std::thread::spawn(move || {
        let mut bytes = Vec::new();
        let read = pipe.take(OUTPUT + 1).read_to_end(&mut bytes);
        read.ok().filter(|_| bytes.len() as u64 <= OUTPUT).map(|_| bytes)
    });
    let begin = Instant::now();
    let ended = loop {
        match child.try_wait().ok()? {
            Some(status) => break status.success(),
            None if begin.elapsed() > patience => {
                let _ = child.kill();
                let _ = child.wait();
                break false;
            }
            None => std::thread::sleep(Duration::from_millis(5)),
        }
    };
    reader.join().ok()?.filter(|_| ended)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shell(script: &str) -> Command {
        let mut command = program("sh");
        command.args(["-c", script]);
        command
    }

    #[test]
    fn time_memory_and_output_are_bounded() {
        let soon = Duration::from_millis(300);
        let long = Duration::from_secs(20);
        assert_eq!(output(shell("echo lamp"), long).as_deref(), Some(&b"lamp\n"[..]));
        assert_eq!(output(shell("exit 1"), long), None);
        let begin = Instant::now();
        assert_eq!(output(shell("exec sleep 30"), soon), None);
        assert!(begin.elapsed() < Duration::from_secs(10));
        assert_eq!(output(shell("ulimit -v"), long).as_deref(), Some(&b"4194304\n"[..]));
        assert_eq!(output(shell("ulimit -t"), long).as_deref(), Some(&b"60\n"[..]));
        assert_eq!(output(shell("head -c 40000000 /dev/zero"), long), None, "too much");
    }

    #[test]
    fn no_name_is_an_option_or_an_address() {
        assert_eq!(named(Path::new("-i.mp4")).as_deref(), Some("file:-i.mp4"));
        assert_eq!(named(Path::new("http://a/b")).as_deref(), Some("file:http://a/b"));
        assert!(!is_there("no-such-program"));
    }
}
