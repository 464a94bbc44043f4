//! The demo, run as a newcomer does.

use std::io::{BufRead, BufReader};
use std::os::unix::process::CommandExt;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use mostra_tests::{in_a_house, top};

#[test]
fn the_demo_shows_its_steps_takes_its_commands_and_stops() {
    in_a_house(|_| {
        let mut demo = Command::new(top().join("scripts/demo"))
            .current_dir(top())
            .stdout(Stdio::piped())
            .process_group(0)
            .spawn()
            .expect("the demo starts");
        let mut lines = BufReader::new(demo.stdout.take().expect("its output")).lines();
        let mut said = String::new();
        for line in lines.by_ref() {
            let line = line.expect("text");
            said += &format!("{line}\n");
            if line.starts_with("Ctrl-C stops") {
                break;
            }
        }
        assert!(said.contains("Ctrl-C stops everything."), "{said}");
        assert!(!said.lines().any(|l| l.starts_with("  ✗")), "a step failed:\n{said}");
        for step in ["it plays Harbour at dawn", "proof: skipped ahead", "it waits at the door"] {
            assert!(said.contains(&format!("  ✓ {step}")), "{step} in:\n{said}");
        }
        assert!(said.contains("asked for the pictures, got nothing, as it should"), "{said}");
        assert!(!said.contains('✗'), "nothing looks like a failure:\n{said}");
        let second = Command::new(top().join("scripts/demo")).output().expect("a second demo");
        assert!(!second.status.success());
        assert!(String::from_utf8_lossy(&second.stderr).contains("running already"));

        // The five commands, exactly as printed.
        let printed = said.split("in this folder:").nth(1).expect("commands");
        let commands: Vec<&str> = printed.lines().filter_map(|l| l.strip_prefix("  ")).collect();
        assert_eq!(commands.len(), 5, "{printed}");
        for command in commands {
            let output = Command::new("bash")
                .args(["-c", command])
                .current_dir(top())
                .output()
                .expect("bash");
            assert!(
                output.status.success(),
                "{command}: {}",
                String::from_utf8_lossy(&output.stdout)
            );
        }

        let asked = Instant::now();
        let group = nix::unistd::Pid::from_raw(-(demo.id() as i32));
        nix::sys::signal::kill(group, nix::sys::signal::Signal::SIGINT).expect("Ctrl-C");
        let status = demo.wait().expect("the end");
        // PostgreSQL writes all to the disk before it ends, which other tests are using as well.
        assert!(asked.elapsed() < Duration::from_secs(10), "{:?}", asked.elapsed());
        assert_eq!(status.code(), Some(0));
        let rest: String = lines.map_while(Result::ok).collect();
        assert!(rest.contains("Stopped."), "{rest}");
        // Nothing listens any more in this namespace, and the lock is free.
        let open = Command::new("ss").args(["-Hltnu"]).output().expect("ss");
        assert_eq!(String::from_utf8_lossy(&open.stdout), "");
        let free = Command::new("flock")
            .args(["-n", ".mostra/demo/lock", "true"])
            .current_dir(top())
            .status()
            .expect("flock");
        assert!(free.success());
    });
}
