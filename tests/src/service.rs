//! The service of a house: started, stopped and refused.

use std::fs;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::{House, PASSWORD, binary, check_url, raw, until};

/// A process that ends with the test.
pub struct Running(Child);

impl Running {
    /// One that was started otherwise.
    pub fn of(child: Child) -> Running {
        Running(child)
    }

    /// Asks it to stop and waits; gives whether it ended well.
    ///
    /// # Panics
    /// When it does not end within 10 s.
    pub fn stop(&mut self) -> bool {
        self.ask_to_stop();
        until(30, "the process to end", || self.0.try_wait().expect("wait")).success()
    }

    /// Asks it to stop, and does not wait.
    pub fn ask_to_stop(&self) {
        self.signal(nix::sys::signal::Signal::SIGTERM);
    }

    /// Ends it at once.
    pub fn kill(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }

    /// The process.
    pub fn id(&self) -> u32 {
        self.0.id()
    }

    fn signal(&self, signal: nix::sys::signal::Signal) {
        let _ = nix::sys::signal::kill(nix::unistd::Pid::from_raw(self.0.id() as i32), signal);
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.kill();
    }
}

impl House {
    /// The command that starts the service.
    pub fn service_command(&self) -> Command {
        let mut command = self.bare_command();
        command.args(["--interfaces", "loopback"]);
        command
    }

    /// The same on the interfaces that its files name.
    pub fn bare_command(&self) -> Command {
        let mut command = match self.under.split_first() {
            Some((program, arguments)) => {
                let mut command = Command::new(program);
                command.args(arguments).arg(binary("mostrad"));
                command
            }
            None => Command::new(binary("mostrad")),
        };
        command.arg("--data").arg(self.data.path());
        // What many tests do at once is enough for the processors; one has them made ahead.
        command.args(["--pictures", "asked"]);
        command.env("MOSTRA_DATABASE_URL", &self.database_url);
        command.env("MOSTRA_CHECK_DATABASE_URL", check_url());
        command.env("MOSTRA_SOCKET", self.socket());
        // Making them takes minutes; who wants some puts small ones there.
        command.env("MOSTRA_TEST_PIECES", "off");
        command
    }

    /// Puts small test pieces where the service keeps its own, so that it makes none: those that are
    /// played in a walkthrough, and nothing in the place of the others.
    ///
    /// # Panics
    /// When ffmpeg does not make them.
    pub fn put_test_pieces(&self) {
        use mostra_media::test_pieces::{MAIN, PIECES};
        let place = self.data.path().join("test-pieces");
        fs::create_dir_all(&place).expect("a directory");
        for piece in PIECES {
            fs::write(place.join(piece.file), "").expect("a file");
        }
        const SOURCES: [&[&str]; 3] = [
            &["testsrc2=s=320x180:r=10:d=60", "-f", "lavfi", "-i", "sine=d=60", "-b:v", "800k"],
            &["sine=d=120", "-b:a", "128k"],
            &["color=c=red:s=320x240:d=1", "-frames:v", "1", "-update", "1"],
        ];
        for (file, source) in MAIN.iter().zip(SOURCES) {
            let made = Command::new("ffmpeg")
                .args(["-loglevel", "error", "-y", "-f", "lavfi", "-i"])
                .args(source)
                .arg(place.join(file))
                .stdin(Stdio::null())
                .status();
            assert!(made.is_ok_and(|status| status.success()), "{file} is made");
        }
    }

    /// Starts the service and waits until its console answers.
    ///
    /// # Panics
    /// When it does not.
    pub fn start(&self) -> Running {
        self.start_with(&[])
    }

    /// The same with further flags.
    ///
    /// # Panics
    /// When it does not.
    pub fn start_with(&self, flags: &[&str]) -> Running {
        let running = self.launch_with(flags);
        self.answering(running)
    }

    /// Waits until the console of a service that was launched answers.
    fn answering(&self, mut running: Running) -> Running {
        let end = Instant::now() + Duration::from_secs(60);
        while !raw::get("127.0.0.1:7641", "/api/v1/setup").is_ok_and(|a| a.status == 200) {
            let ended = running.0.try_wait().expect("wait");
            assert!(
                ended.is_none() && Instant::now() < end,
                "the console does not answer ({}); the service's log:\n{}",
                ended.map_or("still running".to_owned(), |e| e.to_string()),
                self.log(),
            );
            std::thread::sleep(Duration::from_millis(20));
        }
        running
    }

    /// Starts the service without waiting.
    ///
    /// # Panics
    /// When it cannot be started.
    pub fn launch(&self) -> Running {
        self.launch_with(&[])
    }

    /// The same with further flags.
    ///
    /// # Panics
    /// When it cannot be started.
    pub fn launch_with(&self, flags: &[&str]) -> Running {
        self.launch_as(self.service_command().args(flags))
    }

    fn launch_as(&self, command: &mut Command) -> Running {
        let log = fs::OpenOptions::new()
            .create(true)
            .append(true)
            .open(self.data.path().join("mostrad.log"))
            .expect("a log");
        Running(command.stderr(log).spawn().expect("mostrad starts"))
    }

    /// Starts the service in a way that it must refuse; gives what it said.
    ///
    /// # Panics
    /// When it starts.
    pub fn refused(&self, change: impl FnOnce(&mut Command)) -> String {
        let mut command = self.service_command();
        change(&mut command);
        let output = command.stdout(Stdio::null()).output().expect("mostrad runs");
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        assert_eq!(output.status.code(), Some(1), "{said}");
        said
    }

    /// Starts the service, sets the password, and signs the client in.
    pub fn begin(&self) -> Running {
        self.begin_with(&[])
    }

    /// The same with further flags.
    pub fn begin_with(&self, flags: &[&str]) -> Running {
        self.begin_as(self.service_command().args(flags))
    }

    /// The same of another command.
    pub fn begin_as(&self, command: &mut Command) -> Running {
        let running = self.answering(self.launch_as(command));
        self.sign_in();
        running
    }

    /// Signs the client in.
    ///
    /// # Panics
    /// When that is refused.
    pub fn sign_in(&self) {
        let file = self.data.path().join("password");
        fs::write(&file, PASSWORD).expect("a password file");
        let file = file.to_str().expect("text");
        self.on_host(&["login", "--password-file", file]);
        self.mostra(&["login", "--password-file", file]);
    }

    /// The code with which the first account is made in a browser.
    ///
    /// # Panics
    /// When there is none.
    pub fn first_code(&self) -> String {
        let code = fs::read_to_string(self.data.path().join("first-account-code"));
        code.expect("a code for the first account").trim().to_owned()
    }

    /// Runs the client by the socket, which must succeed; gives what it printed.
    ///
    /// # Panics
    /// When it fails.
    pub fn on_host(&self, arguments: &[&str]) -> String {
        let mut command = self.client_command(arguments);
        command.env_remove("MOSTRA_CONSOLE");
        let output = command.env("MOSTRA_SOCKET", self.socket()).output().expect("mostra runs");
        let said = String::from_utf8_lossy(&[output.stdout, output.stderr].concat()).into_owned();
        assert!(output.status.success(), "mostra {arguments:?}: {said}");
        said
    }

    /// The socket by which whoever is on the host reaches it.
    pub fn socket(&self) -> std::path::PathBuf {
        self.data.path().join("console.sock")
    }

    /// What the service logged.
    pub fn log(&self) -> String {
        fs::read_to_string(self.data.path().join("mostrad.log")).unwrap_or_default()
    }
}
