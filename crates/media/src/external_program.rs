//! Programs from outside that read media: with limits on their memory, processor time, output and
//! time, [confined](crate::confinement) to the one file that they read, without a shell, and without
//! input names that could be read as anything else than that file (SEC-15).

use std::ffi::OsStr;
use std::fs::File;
use std::io::{self, Read as _};
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::mpsc;
use std::time::{Duration, Instant};

use mostra_core::format::Format;
use rustix::process::{Pid, Resource, Rlimit, Signal};

use crate::confinement::{self, Allowed};

/// Bytes of memory, and seconds of a processor.
const MEMORY: u64 = 2 << 30;
const PROCESSOR: u64 = 60;
/// Bytes of output.
const OUTPUT: u64 = 32 << 20;

/// How much sooner than the service the kernel ends a child where memory runs out: before anything
/// else.
const FIRST_TO_END: &str = "1000";

/// The name by which a program opens the file that it is [given](ExternalProgram::reading). ffmpeg
/// and ffprobe have it with a scheme, so that it is taken for nothing else than a file.
#[cfg(feature = "pictures")]
pub(crate) const GIVEN: &str = "/dev/fd/0";
pub(crate) const GIVEN_FILE: &str = "file:/dev/fd/0";

/// A program that is about to be started.
pub(crate) struct ExternalProgram {
    command: Command,
    /// Bytes of memory and seconds of a processor, where it has not limits of its own.
    limits: Option<(u64, u64)>,
    allowed: Allowed,
    /// Whether it, and what it starts, are a process group of their own.
    group: bool,
    low: bool,
}

impl ExternalProgram {
    /// A program by its name in the search path, or by its path. It has nothing to read, and its
    /// output goes nowhere.
    pub(crate) fn new(name: &str) -> ExternalProgram {
        let path = found(name);
        let mut command = Command::new(path.as_deref().unwrap_or(Path::new(name)));
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        let programs = path.into_iter().collect();
        ExternalProgram {
            command,
            limits: Some((MEMORY, PROCESSOR)),
            allowed: Allowed { programs, ..Allowed::default() },
            group: false,
            low: false,
        }
    }

    /// With arguments.
    pub(crate) fn args<A: AsRef<OsStr>>(
        mut self,
        all: impl IntoIterator<Item = A>,
    ) -> ExternalProgram {
        self.command.args(all);
        self
    }

    /// With a variable of its environment.
    #[cfg(feature = "pictures")]
    pub(crate) fn env(mut self, name: &str, value: impl AsRef<OsStr>) -> ExternalProgram {
        self.command.env(name, value);
        self
    }

    /// With a file as its standard input, which it may open once more as [`GIVEN`].
    ///
    /// # Errors
    /// When there are no descriptors left.
    pub(crate) fn reading(mut self, file: &File) -> io::Result<ExternalProgram> {
        self.command.stdin(file.try_clone()?);
        self.allowed.files.push(file.try_clone()?.into());
        Ok(self)
    }

    /// With a directory in which it may write.
    pub(crate) fn writing_in(mut self, directory: &Path) -> ExternalProgram {
        self.allowed.directory = Some(directory.to_owned());
        self
    }

    /// With other limits: bytes of memory, seconds of a processor; none for one that sets its own.
    pub(crate) fn within(mut self, limits: Option<(u64, u64)>) -> ExternalProgram {
        self.limits = limits;
        self
    }

    /// With the lowest priority.
    pub(crate) fn low(mut self, low: bool) -> ExternalProgram {
        self.low = low;
        self
    }

    /// With other programs that it may start and end. It and they are one process group, which ends
    /// as a whole.
    #[cfg(feature = "pictures")]
    pub(crate) fn starting(mut self, others: &[&str]) -> ExternalProgram {
        self.allowed.programs.extend(others.iter().filter_map(|name| found(name)));
        self.allowed.ends_others = true;
        self.group = true;
        self
    }

    /// Starts it, from a thread that is confined as the program is to be.
    ///
    /// # Errors
    /// When it cannot be started.
    pub(crate) fn start(self) -> io::Result<Started> {
        let ExternalProgram { mut command, limits, allowed, group, low } = self;
        if group {
            command.process_group(0);
        }
        let start = move || {
            confinement::enter(&allowed);
            command.spawn()
        };
        let started = std::thread::Builder::new().spawn(start)?.join();
        let mut started = Started {
            child: started.unwrap_or_else(|_| Err(io::Error::other("the thread ended")))?,
            group,
        };
        // Before it has read anything: its loader alone takes longer.
        if let Err(error) = started.limit(limits, low) {
            started.end();
            return Err(error);
        }
        Ok(started)
    }
}

/// A program that runs.
pub(crate) struct Started {
    child: Child,
    group: bool,
}

impl Started {
    fn limit(&self, limits: Option<(u64, u64)>, low: bool) -> io::Result<()> {
        let Some(pid) = self.pid() else { return Ok(()) };
        let limits = limits.map(|(memory, time)| [(Resource::As, memory), (Resource::Cpu, time)]);
        let limits = limits.into_iter().flatten().chain([(Resource::Core, 0)]);
        for (resource, limit) in limits {
            // A program that a limited one starts has no higher limits.
            let most = rustix::process::getrlimit(resource).maximum;
            let limit = Some(most.map_or(limit, |most| limit.min(most)));
            let both = Rlimit { current: limit, maximum: limit };
            match rustix::process::prlimit(Some(pid), resource, both) {
                // It has ended already.
                Ok(_) | Err(rustix::io::Errno::SRCH) => {}
                Err(error) => return Err(error.into()),
            }
        }
        // What a confined program starts has this from it, and cannot write it.
        let _ = std::fs::write(format!("/proc/{}/oom_score_adj", self.child.id()), FIRST_TO_END);
        if low {
            rustix::process::setpriority_process(Some(pid), 19)?;
        }
        Ok(())
    }

    fn pid(&self) -> Option<Pid> {
        Pid::from_raw(i32::try_from(self.child.id()).ok()?)
    }

    /// How it ended, if it has.
    ///
    /// # Errors
    /// When the system does not tell.
    pub(crate) fn ended(&mut self) -> io::Result<Option<ExitStatus>> {
        self.child.try_wait()
    }

    /// Ends it, with its whole process group where it has one, without waiting.
    pub(crate) fn end(&mut self) {
        match self.pid().filter(|_| self.group) {
            Some(pid) => drop(rustix::process::kill_process_group(pid, Signal::KILL)),
            None => drop(self.child.kill()),
        }
    }

    /// Waits until it has ended.
    ///
    /// # Errors
    /// When the system does not tell.
    pub(crate) fn wait(&mut self) -> io::Result<ExitStatus> {
        self.child.wait()
    }
}

/// Where a program is, by the search path.
fn found(name: &str) -> Option<PathBuf> {
    if name.contains('/') {
        return Some(PathBuf::from(name));
    }
    let path = std::env::var_os("PATH")?;
    std::env::split_paths(&path).map(|directory| directory.join(name)).find(|path| path.is_file())
}

/// Whether a program is there and runs.
pub(crate) fn is_there(name: &str) -> bool {
    let started = ExternalProgram::new(name).args(["-version"]).start();
    started.is_ok_and(|mut program| program.wait().is_ok_and(|status| status.success()))
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
pub(crate) fn output(program: ExternalProgram, patience: Duration) -> Option<Vec<u8>> {
    match run(program, patience, ()) {
        Ended::Well(bytes) => Some(bytes),
        Ended::Badly | Ended::Late => None,
    }
}

/// Runs a program. `held` is dropped once it has really gone: one that waits for a drive that
/// hangs cannot even be killed, and nobody waits for that here.
pub(crate) fn run<T: Send + 'static>(
    mut program: ExternalProgram,
    patience: Duration,
    held: T,
) -> Ended {
    program.command.stdout(Stdio::piped());
    let Ok(mut program) = program.start() else { return Ended::Badly };
    let Some(pipe) = program.child.stdout.take() else { return Ended::Badly };
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
        match program.ended() {
            Ok(Some(status)) => break status.success(),
            Ok(None) if begin.elapsed() > patience => {
                program.end();
                std::thread::spawn(move || {
                    let _ = program.wait();
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
    use std::io::Write as _;

    use super::*;
    use crate::confinement::{Confinement, confinement};

    const LONG: Duration = Duration::from_secs(20);

    fn shell(script: &str) -> ExternalProgram {
        let others = ["sh", "sleep", "cat", "head", "perl", "chmod"];
        ExternalProgram::new("sh").args(["-c", script]).starting(&others)
    }

    fn printed(program: ExternalProgram) -> Option<String> {
        output(program, LONG).map(|bytes| String::from_utf8(bytes).unwrap())
    }

    #[test]
    fn time_memory_and_output_are_bounded() {
        let soon = Duration::from_millis(300);
        assert_eq!(printed(shell("echo lamp")).as_deref(), Some("lamp\n"));
        assert_eq!(printed(shell("exit 1")), None);
        let begin = Instant::now();
        assert_eq!(output(shell("exec sleep 30"), soon), None);
        assert!(begin.elapsed() < Duration::from_secs(10));
        // The limits are set just after the start.
        let limited = "until [ $(ulimit -v) != unlimited ] && [ $(ulimit -t) != unlimited ]
            do :; done; echo $(ulimit -v) $(ulimit -t)";
        assert_eq!(printed(shell(limited)).as_deref(), Some("2097152 60\n"));
        let much = tempfile::tempfile().unwrap();
        much.set_len(OUTPUT + 1).unwrap();
        let all = |bytes: u64| {
            let script = format!("head -c {bytes} /dev/fd/0");
            output(shell(&script).reading(&much).unwrap(), LONG).map(|printed| printed.len())
        };
        assert_eq!((all(OUTPUT), all(OUTPUT + 1)), (Some(OUTPUT as usize), None), "too much");
    }

    #[test]
    fn children_are_ended_first_and_with_all_that_they_started() {
        let mut program = shell("sleep 300 & echo $!; sleep 300");
        program.command.stdout(Stdio::piped());
        let mut program = program.start().unwrap();
        let own = std::fs::read_to_string(format!("/proc/{}/oom_score_adj", program.child.id()));
        assert_eq!(own.unwrap(), "1000\n");
        let mut pipe = std::io::BufReader::new(program.child.stdout.take().unwrap());
        let mut line = String::new();
        std::io::BufRead::read_line(&mut pipe, &mut line).unwrap();
        program.end();
        program.wait().unwrap();
        let status = format!("/proc/{}/stat", line.trim());
        let gone = || std::fs::read_to_string(&status).map_or(true, |text| text.contains(") Z "));
        let end = Instant::now() + LONG;
        while !gone() {
            assert!(Instant::now() < end, "the child of the child goes on");
            std::thread::yield_now();
        }
    }

    #[test]
    fn a_program_reads_its_file_and_no_other_and_reaches_no_network() {
        assert_eq!(confinement(), Confinement::Whole, "this host confines nothing");
        let folder = tempfile::tempdir().unwrap();
        let mut file = File::create_new(folder.path().join("one")).unwrap();
        file.write_all(b"lamp").unwrap();
        std::fs::write(folder.path().join("other"), b"key").unwrap();
        let one = File::open(folder.path().join("one")).unwrap();
        let given = shell("cat /dev/fd/0").reading(&one).unwrap();
        assert_eq!(printed(given).as_deref(), Some("lamp"));
        let refused = [
            format!("cat {}", folder.path().join("other").display()),
            format!("cat {}", folder.path().join("one").display().to_string() + "/../other"),
            format!("echo > {}", folder.path().join("new").display()),
            format!("chmod 777 {}", folder.path().join("one").display()),
            "cat /etc/passwd".to_owned(),
            "ls /".to_owned(),
            "kill -0 1".to_owned(),
            format!("perl -e 'kill(0, {}) or exit 1'", std::process::id()),
            "perl -MSocket -e 'socket(my $s, AF_INET, SOCK_STREAM, 0) or exit 1'".to_owned(),
            "perl -MSocket -e 'socket(my $s, AF_UNIX, SOCK_STREAM, 0) or exit 1'".to_owned(),
            format!("perl -e 'truncate(\"{}/one\", 0) or exit 1'", folder.path().display()),
            // unshare(CLONE_NEWUSER), ptrace(PTRACE_TRACEME)
            #[cfg(target_arch = "x86_64")]
            "perl -e 'exit 1 if syscall(272, 0x10000000) < 0'".to_owned(),
            #[cfg(target_arch = "x86_64")]
            "perl -e 'exit 1 if syscall(101, 0, 0, 0, 0) < 0'".to_owned(),
        ];
        for script in refused {
            let tried = shell(&script).reading(&one).unwrap();
            assert_eq!(printed(tried), None, "{script}");
        }
        assert_eq!(std::fs::read(folder.path().join("one")).unwrap(), b"lamp");
        // The same programs run: it is what they try that is refused.
        assert!(printed(shell("perl -e 'exit 0'; chmod --version; ulimit -v")).is_some());
        let own = tempfile::tempdir().unwrap();
        let script = format!("echo lamp > {0}/new && cat {0}/new", own.path().display());
        assert_eq!(printed(shell(&script).writing_in(own.path())).as_deref(), Some("lamp\n"));
    }

    #[test]
    fn a_program_that_is_missing_is_not_there() {
        assert!(!is_there("no-such-program"));
    }
}
