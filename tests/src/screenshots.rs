//! Takes the pictures of docs/screenshots/ from the running demo: `make screenshots`.
//!
//! Pages by headless Chromium at 1280x800, terminal output in a terminal window under Xvfb.

use std::io::{Read as _, Write as _};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use mostra_tests::browser::Browser;
use mostra_tests::{Running, raw, top, until};

fn main() {
    let target = top().join("docs/screenshots");
    std::fs::create_dir_all(&target).expect("the folder for pictures");
    let runtime =
        tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    runtime.block_on(pages(&target));
    terminals(&target);
}

/// A television that plays a film from the demo house at the pace of a film, for half a minute.
fn play() -> std::thread::JoinHandle<()> {
    let listed = Command::new(top().join(".mostra/demo/mostra"))
        .args(["--json", "catalogue", "list", "video-all"])
        .output()
        .expect("the demo's client");
    let listed: serde_json::Value = serde_json::from_slice(&listed.stdout).expect("JSON");
    let objects = listed["objects"].as_array().expect("a list");
    let film = objects.iter().find(|o| o["title"] == "Harbour at dawn").expect("the film");
    let path = format!("/media/{}.mp4", film["id"].as_str().expect("an id"));
    std::thread::spawn(move || {
        let server = "127.0.0.1:7740";
        let mut stream = raw::connect_with("127.0.0.11", server, Some(4096)).expect("connected");
        let request = format!("GET {path} HTTP/1.1\r\nHost: {server}\r\n\r\n");
        stream.write_all(request.as_bytes()).expect("asked");
        raw::read_answer(&mut stream, false).expect("a head");
        for n in 0..300usize {
            // Scenes differ.
            let mut some = vec![0; 2500 + (n * n / 40) % 5000];
            if stream.read_exact(&mut some).is_err() {
                break;
            }
            std::thread::sleep(Duration::from_millis(100));
        }
    })
}

async fn pages(target: &Path) {
    let password =
        std::fs::read_to_string(top().join(".mostra/demo/password")).expect("the demo's password");
    let browser = Browser::open().await;
    browser.size(1280, 800).await;
    browser.go("/").await;
    browser.sign_in(&password).await;
    browser.sees("skipped ahead Harbour at dawn").await;
    browser.picture(&target.join("today.png")).await;
    browser.go("/catalogue/video-all").await;
    browser
        .page
        .find(thirtyfour::By::XPath("//button[contains(., 'Harbour at dawn')]"))
        .await
        .expect("a film")
        .click()
        .await
        .expect("a click");
    browser.sees("AVC_MP4_MP_SD_AAC_MULT5").await;
    let playable = "return document.querySelector('video').readyState >= 3";
    for _ in 0..100 {
        let ready = browser.page.execute(playable, vec![]).await.expect("a film");
        if ready.convert().unwrap_or(false) {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    // The player's spinner fades out for a moment longer.
    tokio::time::sleep(Duration::from_secs(1)).await;
    browser.picture(&target.join("catalogue.png")).await;
    browser.go("/catalogue/0?q=tide").await;
    browser.sees("found").await;
    browser.sees("Neap tide").await;
    // Pictures of things come after the words.
    tokio::time::sleep(Duration::from_secs(2)).await;
    browser.picture(&target.join("catalogue-search.png")).await;
    browser.go("/folders").await;
    browser.sees("The next scan comes").await;
    for button in browser
        .page
        .find_all(thirtyfour::By::XPath("//button[contains(., 'What the last scans found')]"))
        .await
        .expect("buttons")
        .into_iter()
        .take(1)
    {
        button.click().await.expect("a click");
    }
    browser.sees("added").await;
    browser.picture(&target.join("folders.png")).await;
    browser.go("/devices").await;
    browser
        .page
        .find(thirtyfour::By::XPath("//a[contains(., 'Lounge television')]"))
        .await
        .expect("the television")
        .click()
        .await
        .expect("a click");
    browser.sees("acknowledged").await;
    browser.picture(&target.join("devices.png")).await;
    browser.go("/catalogue/pictures-all").await;
    browser.sees("Storm 10").await;
    browser.press("As a grid").await;
    browser.sees("As a list").await;
    tokio::time::sleep(Duration::from_secs(2)).await;
    browser.picture(&target.join("catalogue-grid.png")).await;
    browser.press("As a list").await;
    browser.go("/settings").await;
    browser.sees("Stations").await;
    browser.press("Save the records now").await;
    browser.sees("when somebody asked").await;
    browser.press("Check").await;
    browser.sees("It can be restored").await;
    let records = browser.page.find(thirtyfour::By::Id("records")).await.expect("the records");
    records.scroll_into_view().await.expect("in sight");
    browser.picture(&target.join("settings.png")).await;
    browser.go("/network").await;
    browser
        .page
        .find(thirtyfour::By::XPath("//a[contains(., 'Kitchen speaker')]"))
        .await
        .expect("the speaker")
        .click()
        .await
        .expect("a click");
    browser.sees("SoundPost").await;
    browser.picture(&target.join("network.png")).await;
    let player = play();
    browser.go("/").await;
    browser.sees("Processors").await;
    tokio::time::sleep(Duration::from_secs(24)).await;
    browser.picture(&target.join("streams.png")).await;
    player.join().expect("the player");
    browser.size(390, 844).await;
    browser.go("/").await;
    browser.sees("skipped ahead Harbour at dawn").await;
    browser.picture(&target.join("today-phone.png")).await;
    browser.go("/devices").await;
    let television = thirtyfour::By::XPath("//a[contains(., 'Lounge television')]");
    let television = browser.page.find(television).await.expect("the television");
    television.click().await.expect("a click");
    browser.sees("acknowledged").await;
    browser.picture(&target.join("device-phone.png")).await;
    browser.size(1280, 800).await;
    browser.go("/preflight").await;
    browser.sees("Devices reach the house").await;
    browser.picture(&target.join("preflight.png")).await;
    walked(&browser, target).await;
    browser.close().await;
}

/// The television and a slow one are walked through, as persons with them would do it.
async fn walked(browser: &Browser, target: &Path) {
    let slow = Command::new(top().join("target/debug/mostra-stage"))
        .args(["run", "--quiet", "demo/faults/boathouse-television.toml"])
        .current_dir(top())
        .stdout(Stdio::null())
        .spawn();
    let _slow = Running::of(slow.expect("a stand-in"));
    let mostra = |arguments: &[&str]| {
        let output = Command::new(top().join(".mostra/demo/mostra"))
            .args(arguments)
            .output()
            .expect("mostra");
        String::from_utf8_lossy(&output.stdout).into_owned()
    };
    until(30, "the slow one", || {
        raw::get("127.0.0.35:7690", "/stage/screen").is_ok().then_some(())
    });
    Command::new(top().join("target/debug/mostra-stage"))
        .args(["do", "127.0.0.35", "find"])
        .stdout(Stdio::null())
        .status()
        .expect("mostra-stage");
    until(30, "the slow one's arrival", || {
        mostra(&["device", "list"]).contains("127.0.0.35").then_some(())
    });
    mostra(&[
        "device",
        "admit",
        "127.0.0.35",
        "--name",
        "Boathouse television",
        "--kinds",
        "films",
    ]);
    mostra(&["device", "about", "Lounge television", "--kind", "television", "--room", "Lounge"]);
    mostra(&["walkthrough", "run", "--all"]);
    browser.go("/devices").await;
    browser.sees("Boathouse television").await;
    let slow = thirtyfour::By::XPath("//a[contains(., 'Boathouse television')]");
    browser.page.find(slow).await.expect("the slow one").click().await.expect("a click");
    let link = browser.page.find(thirtyfour::By::LinkText("Walk it through")).await;
    link.expect("a link").click().await.expect("a click");
    browser.sees("second by second").await;
    browser.picture(&target.join("walkthrough.png")).await;
    browser.go("/handover").await;
    browser.sees("The household’s rule").await;
    browser.picture(&target.join("handover.png")).await;
}

fn terminals(target: &Path) {
    let player = play();
    std::thread::sleep(Duration::from_secs(15));
    let display = ":97";
    // A display that was killed leaves these behind, and looks as if it were there.
    for left in ["/tmp/.X11-unix/X97", "/tmp/.X97-lock"] {
        let _ = std::fs::remove_file(left);
    }
    let mut server = Command::new("Xvfb")
        // Without a reset when the last window closes: during one it accepts no other.
        .args([display, "-noreset", "-screen", "0", "1280x800x24"])
        .stderr(Stdio::null())
        .spawn()
        .expect("Xvfb starts");
    until(30, "the display", || {
        std::os::unix::net::UnixStream::connect("/tmp/.X11-unix/X97").ok().map(drop)
    });
    let client = ".mostra/demo/mostra";
    for (name, lines) in [
        (
            "client-network",
            format!(
                "{client} network list --all; {client} network show 'Kitchen speaker' RenderingControl; {client} exposure"
            ),
        ),
        (
            "client-house",
            format!(
                "{client} status; {client} folder list; {client} folder show Sound; {client} catalogue list video-all"
            ),
        ),
        ("client-preflight", format!("{client} preflight")),
        (
            "client-device",
            format!("{client} device list; {client} device show 'Lounge television'"),
        ),
        (
            "client-walkthrough",
            format!("{client} walkthrough status; {client} walkthrough status 'Lounge television'"),
        ),
    ] {
        terminal(display, &target.join(format!("{name}.png")), &lines);
    }
    player.join().expect("the player");
    let _ = server.kill();
    let _ = server.wait();
}

fn terminal(display: &str, picture: &PathBuf, commands: &str) {
    let ready = std::env::temp_dir().join(format!("mostra-terminal-{}", std::process::id()));
    let _ = std::fs::remove_file(&ready);
    // Each command is shown as typed, then run.
    let script = commands.split("; ").map(|c| {
        let shown = c.replace("target/debug/", "").replace(".mostra/demo/", "");
        format!("printf '\\033[1m$ %s\\033[0m\\n' \"{}\"; {c}; echo", shown.replace('"', "\\\""))
    });
    let script: Vec<String> = script.collect();
    let script = format!("{}; touch {}; sleep 30", script.join("; "), ready.display());
    let mut window = Command::new("xterm")
        .args([
            "-display",
            display,
            "-geometry",
            "138x41+0+0",
            "-fa",
            "DejaVu Sans Mono",
            "-fs",
            "11",
        ])
        .args(["-bg", "#fffdf8", "-fg", "#1d2b30", "-b", "12", "+sb", "-e", "bash", "-c", &script])
        .current_dir(top())
        .env("LANG", "C.UTF-8")
        .spawn()
        .expect("xterm starts");
    until(30, "the commands", || ready.exists().then_some(()));
    std::thread::sleep(Duration::from_millis(500));
    let taken =
        Command::new("import").args(["-display", display, "-window", "root"]).arg(picture).status();
    assert!(taken.expect("import runs").success());
    let _ = window.kill();
    let _ = window.wait();
    let _ = std::fs::remove_file(ready);
}
