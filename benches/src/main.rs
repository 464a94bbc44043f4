//! `make bench`: each figure beside a floor or a peer measured in the same run, written to
//! docs/benchmarks.md. Everything runs on loopback in a network namespace of its own.

mod browse;
mod devices;
mod files;
mod headers;
mod loaded;
mod million;
mod pictures;
mod scan;
mod searches;
mod soak;
mod start;
mod under_load;

use std::fmt::Write as _;
use std::process::Command;

use mostra_tests::{in_a_house, top};
use nix::sys::resource::{Resource, getrlimit, setrlimit};

fn main() {
    // A thousand streams at once have two ends each.
    if let Ok((_, most)) = getrlimit(Resource::RLIMIT_NOFILE) {
        let _ = setrlimit(Resource::RLIMIT_NOFILE, most, most);
    }
    // One part alone, printed and not recorded.
    if let Some(part) = std::env::args().nth(1) {
        let mut report = String::new();
        if part == "soak" {
            let seconds = std::env::var("SOAK_SECONDS").ok().and_then(|s| s.parse().ok());
            soak::run(std::time::Duration::from_secs(seconds.unwrap_or(600)));
            return;
        }
        if part == "headers" {
            headers::measure(&mut report);
            print!("{report}");
            return;
        }
        if part == "core" {
            million::measure(&mut report);
            print!("{report}");
            return;
        }
        in_a_house(move |house| {
            let mut service = house.begin_with(&ROOM);
            match part.as_str() {
                "browse" => browse::measure(&house, &mut report),
                "files" => files::measure(&house, &mut report),
                "load" => under_load::measure(&house, &mut report),
                "scan" => scan::measure(&house, &mut report),
                "pictures" => pictures::measure(&house, &mut report),
                "devices" => devices::measure(&house, &mut report),
                "searches" => searches::measure(&mut report),
                "loaded" => {
                    service.stop();
                    loaded::measure(&house, &mut report);
                }
                other => panic!(
                    "{other} is no part: core, headers, browse, files, load, pictures, scan, searches, devices, loaded, soak"
                ),
            }
            print!("{report}");
        });
        return;
    }
    in_a_house(|house| {
        let mut report = String::from(
            "# Benchmarks\n\nWritten by `make bench`. Every figure stands beside a floor or a peer from the same run, \
             since machines differ; read the ratios. Medians of the runs named.\n\n",
        );
        let cores = std::thread::available_parallelism().map_or(0, usize::from);
        let date = Command::new("date")
            .args(["-u", "+%Y-%m-%d"])
            .output()
            .map(|o| o.stdout)
            .unwrap_or_default();
        let _ = writeln!(
            report,
            "Measured {} on {cores} cores.\n",
            String::from_utf8_lossy(&date).trim()
        );
        let mut service = start::measure(&house, &mut report);
        browse::measure(&house, &mut report);
        files::measure(&house, &mut report);
        under_load::measure(&house, &mut report);
        searches::measure(&mut report);
        pictures::measure(&house, &mut report);
        scan::measure(&house, &mut report);
        headers::measure(&mut report);
        service.stop();
        // Two thousand devices in the records of another house.
        let other = house.beside();
        let mut service = other.begin_with(&ROOM);
        devices::measure(&other, &mut report);
        service.stop();
        loaded::measure(&house, &mut report);
        million::measure(&mut report);
        let notes = std::fs::read_to_string(top().join("benches/notes.md")).unwrap_or_default();
        report += &notes;
        std::fs::write(top().join("docs/benchmarks.md"), &report).expect("docs/benchmarks.md");
        print!("{report}");
    });
}

/// A thousand paused streams of one device are more than it usually has room for.
const ROOM: [&str; 2] = ["--connections", "4096"];

/// The middle one.
fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// Resident memory of a process, in KiB.
fn resident(process: u32) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap_or_default();
    let line = status.lines().find(|l| l.starts_with("VmRSS:")).unwrap_or_default();
    line.split_ascii_whitespace().nth(1).and_then(|n| n.parse().ok()).unwrap_or(0)
}

/// Processor seconds that a process and its children have used.
fn processor_seconds(processes: &[u32]) -> f64 {
    let ticks = |process: &u32| -> u64 {
        let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
        let after = stat.rsplit_once(')').map_or("", |(_, rest)| rest);
        let field = |n: usize| {
            after.split_ascii_whitespace().nth(n).and_then(|t| t.parse::<u64>().ok()).unwrap_or(0)
        };
        // User and system time are the 14th and 15th fields; the name was the 2nd.
        field(11) + field(12)
    };
    processes.iter().map(ticks).sum::<u64>() as f64 / 100.0
}

/// Processes of this name.
fn processes(name: &str) -> Vec<u32> {
    let output =
        Command::new("pgrep").args(["-x", name]).output().map(|o| o.stdout).unwrap_or_default();
    String::from_utf8_lossy(&output).lines().filter_map(|l| l.parse().ok()).collect()
}
