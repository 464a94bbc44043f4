//! Programs from outside that read media: with bounds on their memory, processor time, output
//! and patience, without a shell, and without input names that could be read as anything else
//! than a file (SEC-15).

use std::io::Read as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::mpsc;
use std::time::{Duration, Instant};

use mostra_core::format::Format;

/// Bytes of memory, and seconds of a processor.
const MEMORY: u64 = 2 << 30;
const PROCESSOR: u64 = 60;
/// Bytes of output.
const OUTPUT: u64 = 32 << 20;

/// How much sooner than the service the kernel ends a child where memory runs out: before anything
/// else.
pub(crate) const FIRST_TO_END: &str = "1000";

/// A program, run within bounds by Debian's prlimit.
pub(crate) fn program(name: &str) -> Command {
    program_within(name, (MEMORY, PROCESSOR))
}

/// The same within other bounds: bytes of memory, seconds of a processor.
pub(crate) fn program_within(name: &str, (memory, processor): (u64, u64)) -> Command {
    let mut command = Command::new("choom");
    command.args(["-n", FIRST_TO_END, "--", "prlimit"]);
    command.args([format!("--as={memory}"), format!("--cpu={processor}"), "--core=0".into()]);
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

/// How a program ended.
pub(crate) enum Ended {
    /// Well, having printed this.
    Well(Vec<u8>),
    /// It failed, crashed or printed too much.
    Badly,
    /// It was still running after all the patience, and was killed.
    Late,
}

/// What ffmpeg and ffprobe are told before an input: the format that we found it to be, and no
/// other, however its bytes look to them; some formats name further files, which would be opened.
/// `None` for one that they are not asked for.
pub(crate) fn only(format: Format) -> Option<[&'static str; 6]> {
    let name = format.row().demuxer?;
    Some(["-protocol_whitelist", "file", "-format_whitelist", family(name), "-f", name])
}

/// All the names that the program has for a format.
fn family(name: &'static str) -> &'static str {
    match name {
        "mov" => "mov,mp4,m4a,3gp,3g2,mj2",
        "matroska" => "matroska,webm",
        "mpeg" => "mpeg,mpegvideo",
        other => other,
    }
}

/// What a program prints; `None` if it fails, prints too much or takes longer than `patience`.
pub(crate) fn output(mut command: Command, patience: Duration) -> Option<Vec<u8>> {
    command.stdin(Stdio::null());
    match run(command, patience, ()) {
        Ended::Well(bytes) => Some(bytes),
        Ended::Badly | Ended::Late => None,
    }
}

/// Runs a program. `held` is dropped once it has really gone: one that waits for a drive that
/// hangs cannot even be killed, and nobody waits for that here.
pub(crate) fn run<T: Send + 'static>(mut command: Command, patience: Duration, held: T) -> Ended {
    let quiet = command.stdout(Stdio::piped()).stderr(Stdio::null());
    let Ok(mut child) = quiet.spawn() else { return Ended::Badly };
    let Some(pipe) = child.stdout.take() else { return Ended::Badly };
    let (at_end, ended) = mpsc::channel::<()>();
    let reader = std::thread::spawn(move || {
        let _at_end = at_end;
        let mut bytes = Vec::new();
        let read = pipe.take(OUTPUT + 1).read_to_end(&mut bytes);
        read.ok().filter(|_| bytes.len() as u64 <= OUTPUT).map(|_| bytes)
    });
    let begin = Instant::now();
    // Whoever has written everything is about to end.
    let _ = ended.recv_timeout(patience);
    // Those that go on without writing are asked more and more seldom.
    let mut pause = Duration::from_millis(1);
    let well = loop {
        match child.try_wait() {
            Ok(Some(status)) => break status.success(),
            Ok(None) if begin.elapsed() > patience => {
                let _ = child.kill();
                std::thread::spawn(move || {
                    let _ = child.wait();
                    let _ = reader.join();
                    drop(held);
                });
                return Ended::Late;
            }
            Ok(None) => std::thread::sleep(pause),
            Err(_) => break false,
        }
        pause = (pause * 2).min(Duration::from_millis(10));
    };
    match reader.join() {
        Ok(Some(bytes)) if well => Ended::Well(bytes),
        _ => Ended::Badly,
    }
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
        assert_eq!(output(shell("ulimit -v"), long).as_deref(), Some(&b"2097152\n"[..]));
        assert_eq!(output(shell("ulimit -t"), long).as_deref(), Some(&b"60\n"[..]));
        let first = output(shell("cat /proc/self/oom_score_adj"), long);
        assert_eq!(first.as_deref(), Some(&b"1000\n"[..]), "children are ended first");
        assert_eq!(output(shell("head -c 40000000 /dev/zero"), long), None, "too much");
    }

    #[test]
    fn no_name_is_an_option_or_an_address() {
        assert_eq!(named(Path::new("-i.mp4")).as_deref(), Some("file:-i.mp4"));
        assert_eq!(named(Path::new("http://a/b")).as_deref(), Some("file:http://a/b"));
        assert!(!is_there("no-such-program"));
    }
}
