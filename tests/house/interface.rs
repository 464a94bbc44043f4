//! The console's interface is what its document says; accounts and sessions; live events.

use std::io::{BufRead, BufReader, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use mostra_tests::raw::{self, ask, browse, media_path};
use mostra_tests::{House, PASSWORD, in_a_house, query, until};
use serde_json::Value;

const CONSOLE: &str = "127.0.0.1:7641";
const METHODS: [&str; 5] = ["GET", "PUT", "POST", "DELETE", "PATCH"];

/// Asks with a token of one's own and any body.
fn call(token: &str, method: &str, path: &str, kind: &str, body: &str) -> raw::Answer {
    let request = format!(
        "{method} {path} HTTP/1.1\r\nHost: {CONSOLE}\r\nAuthorization: Bearer {token}\r\n\
         Content-Type: {kind}\r\nContent-Length: {}\r\n\r\n{body}",
        body.len()
    );
    raw::exchange("127.0.0.1", CONSOLE, &request)
        .unwrap_or_else(|error| panic!("{method} {path}: {error}"))
}

fn sign_in(name: &str, password: &str) -> raw::Answer {
    let body = serde_json::json!({"name": name, "password": password, "token": true}).to_string();
    call("", "POST", "/api/v1/session", "application/json", &body)
}

fn token(name: &str, password: &str) -> String {
    let answer = sign_in(name, password);
    assert_eq!(answer.status, 201, "{}", answer.text());
    let session: Value = serde_json::from_slice(&answer.body).unwrap();
    session["token"].as_str().unwrap().to_owned()
}

/// Whether the body of a request is JSON.
fn is_json(body: &Value) -> bool {
    body["content"]["application/json"].is_object()
}

#[test]
fn every_path_takes_the_methods_that_its_document_says_and_no_others() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        let own = token("house", PASSWORD);
        let document: Value = house.api("GET", "/openapi.json");
        let paths = document["paths"].as_object().unwrap();
        assert!(paths.len() > 35, "{}", paths.len());
        for (path, item) in paths {
            // Numbers that nothing has, so that nothing is done.
            let place = path
                .replace("{id}", "999999")
                .replace("{name}", "nobody")
                .replace("{stamp}", "0")
                .replace("{size}", "small")
                .replace("{number}", "9");
            let documented: Vec<&str> = METHODS
                .into_iter()
                .filter(|method| item[method.to_lowercase()].is_object())
                .collect();
            for method in METHODS {
                let answer = match path.as_str() {
                    "/api/v1/live" if method == "GET" => continue,
                    "/api/v1/session" if method == "DELETE" => continue,
                    "/api/v1/restart" if method == "POST" => continue,
                    _ => call(&own, method, &place, "application/json", "[]"),
                };
                let problem = answer.field("content-type").unwrap_or_default().to_owned();
                if documented.contains(&method) {
                    assert_ne!(answer.status, 405, "{method} {place}");
                    assert!(!answer.text().contains("No such path"), "{method} {place}");
                    assert!(answer.status < 500, "{method} {place}: {}", answer.text());
                    // An array is no body of any of them, and JSON is no file.
                    let body = &item[method.to_lowercase()]["requestBody"];
                    let refusal = if is_json(body) { 400 } else { 415 };
                    assert!(
                        !body.is_object() || answer.status == refusal,
                        "{method} {place}: {}",
                        answer.status
                    );
                } else {
                    assert_eq!(answer.status, 405, "{method} {place}");
                    let mut allowed: Vec<&str> =
                        answer.field("allow").unwrap().split(", ").collect();
                    allowed.sort_unstable();
                    let mut expected = documented.clone();
                    expected.sort_unstable();
                    assert_eq!(allowed, expected, "{place}");
                }
                if answer.status >= 400 {
                    assert_eq!(problem, "application/problem+json", "{method} {place}");
                }
            }
            for (method, operation) in item.as_object().unwrap() {
                let body = &operation["requestBody"];
                if !is_json(body) {
                    continue;
                }
                let method = method.to_uppercase();
                for (kind, wrong, status) in [
                    ("application/json", "garbage", 400),
                    ("application/json", "7", 400),
                    ("text/plain", "{}", 415),
                ] {
                    let answer = call(&own, &method, &place, kind, wrong);
                    assert_eq!(
                        answer.status,
                        status,
                        "{method} {place} {wrong}: {}",
                        answer.text()
                    );
                }
            }
            // Without a session, only what says so answers.
            for (method, operation) in item.as_object().unwrap() {
                let open = operation["security"].as_array().unwrap().is_empty();
                let answer =
                    call("nobody", &method.to_uppercase(), &place, "application/json", "{}");
                assert_eq!(answer.status != 401, open, "{method} {place}: {}", answer.status);
            }
        }
        let nowhere = call(&own, "GET", "/api/v1/nowhere", "application/json", "");
        assert_eq!(nowhere.status, 404);
        // What is documented of names is what holds.
        let name = &document["components"]["schemas"]["DeviceName"]["properties"]["name"];
        assert_eq!((name["minLength"].as_u64(), name["maxLength"].as_u64()), (Some(1), Some(63)));
        let schemes = document["components"]["securitySchemes"].as_object().unwrap();
        assert!(["page", "session", "token"].iter().all(|one| schemes.contains_key(*one)));
    });
}

#[test]
fn accounts_are_listed_changed_and_removed_and_their_sessions_end() {
    in_a_house(|house| {
        let _service = house.begin();
        let file = |name: &str, text: &str| {
            let path = house.data.path().join(name);
            std::fs::write(&path, text).unwrap();
            path.to_str().unwrap().to_owned()
        };
        let (first, second) =
            (file("first", "keeper of the lamp"), file("second", "keeper of the bell"));
        let own = file("own", PASSWORD);
        house.mostra(&["account", "add", "ansgar", "--password-file", &first]);
        let theirs = token("ansgar", "keeper of the lamp");
        let status =
            |token: &str| call(token, "GET", "/api/v1/folders", "application/json", "").status;
        assert_eq!(status(&theirs), 200);
        let list = house.json(&["account", "list"]);
        let names: Vec<&str> =
            list.as_array().unwrap().iter().map(|a| a["name"].as_str().unwrap()).collect();
        assert_eq!(names, ["ansgar", "house"]);
        assert_eq!((list[0]["sessions"].as_u64(), list[1]["you"].as_bool()), (Some(1), Some(true)));
        // Another's password: its sessions end at once.
        house.mostra(&["account", "password", "ansgar", "--password-file", &second]);
        assert_eq!(status(&theirs), 401);
        assert_eq!(sign_in("ansgar", "keeper of the lamp").status, 401);
        // One's own needs the one until now; this session goes on, others end.
        let other = token("house", PASSWORD);
        let wrong = house.mostra_fails(&[
            "account",
            "password",
            "--password-file",
            &first,
            "--current-file",
            &second,
        ]);
        assert!(wrong.contains("current password is wrong"), "{wrong}");
        house.mostra(&["account", "password", "--password-file", &first, "--current-file", &own]);
        assert_eq!(status(&other), 401);
        house.mostra(&["folder", "list"]);
        // Sessions one by one, and all of an account.
        let theirs = [token("ansgar", "keeper of the bell"), token("ansgar", "keeper of the bell")];
        let sessions = house.json(&["account", "sessions"]);
        let all = sessions.as_array().unwrap();
        assert_eq!(all.len(), 3, "{sessions}");
        assert!(all.iter().all(|s| s["program"] == true && s["began_ms"].as_u64() > Some(0)));
        assert!(!sessions.to_string().contains(&theirs[0]), "no token is shown");
        let id = all.iter().find(|s| s["account"] == "ansgar").unwrap()["id"].as_str().unwrap();
        house.mostra(&["account", "sign-out", id]);
        assert_eq!(theirs.iter().filter(|token| status(token) == 200).count(), 1);
        house.mostra(&["account", "sign-out", "ansgar"]);
        assert!(theirs.iter().all(|token| status(token) == 401));
        // Removed, also over a restart; the last one stays.
        let theirs = token("ansgar", "keeper of the bell");
        house.mostra(&["account", "remove", "ansgar", "--yes"]);
        assert_eq!((status(&theirs), sign_in("ansgar", "keeper of the bell").status), (401, 401));
        // A name that means something else in a path is refused; one with an accent is none.
        house.mostra_fails(&["account", "add", "..", "--password-file", &first]);
        house.mostra(&["account", "add", "Élise", "--password-file", &first]);
        house.mostra(&["account", "password", "Élise", "--password-file", &second]);
        house.mostra(&["account", "remove", "Élise", "--yes"]);
        assert_eq!(query(&house.database_url, "select count(*) from account"), "1");
        let said = house.mostra_fails(&["account", "remove", "house", "--yes"]);
        assert!(said.contains("only account"), "{said}");
        assert_eq!(query(&house.database_url, "select count(*) from session"), "1");
    });
}

#[test]
fn a_lost_password_is_reset_on_the_host() {
    in_a_house(|house| {
        let _service = house.begin();
        let old = token("house", PASSWORD);
        let reset = |extra: &[&str]| {
            let mut command = house.service_command();
            let output = command.args(["account", "reset"]).args(extra).output().unwrap();
            let said = String::from_utf8_lossy(&output.stdout).into_owned();
            assert!(output.status.success(), "{said}{}", String::from_utf8_lossy(&output.stderr));
            said
        };
        let said = reset(&[]);
        let password = said.split("Its password is ").nth(1).unwrap().trim().to_owned();
        assert_eq!(sign_in("house", PASSWORD).status, 401);
        token("house", &password);
        // The service that runs meanwhile ends the sessions too.
        until(15, "the session to end", || {
            (call(&old, "GET", "/api/v1/folders", "application/json", "").status == 401)
                .then_some(())
        });
        let file = house.data.path().join("chosen");
        std::fs::write(&file, "a chosen one\n").unwrap();
        let said = reset(&["mirela", "--password-file", file.to_str().unwrap()]);
        assert!(said.contains("it is made") && !said.contains("chosen"), "{said}");
        token("mirela", "a chosen one");
    });
}

#[test]
fn of_many_guesses_at_once_few_are_looked_at() {
    in_a_house(|house| {
        let _service = house.begin();
        let begin = Instant::now();
        let told: Vec<u16> = std::thread::scope(|scope| {
            let guess = |n: u32| move || sign_in("house", &format!("guess number {n}")).status;
            let all: Vec<_> = (0..100).map(|n| scope.spawn(guess(n))).collect();
            all.into_iter().map(|one| one.join().unwrap()).collect()
        });
        let count = |status: u16| told.iter().filter(|s| **s == status).count();
        assert_eq!((count(401), count(429)), (10, 90), "{told:?}");
        assert!(begin.elapsed() < Duration::from_secs(20));
        let _ = house;
    });
}

/// Reads live events for a while: each with its topic and whether it holds numbers.
fn live(house: &House, length: Duration) -> Vec<(String, bool)> {
    let token = std::fs::read_to_string(house.data.path().join("token")).unwrap();
    let mut stream = TcpStream::connect(CONSOLE).unwrap();
    let request = format!(
        "GET /api/v1/live HTTP/1.1\r\nHost: {CONSOLE}\r\nAuthorization: Bearer {}\r\n\r\n",
        token.trim()
    );
    stream.write_all(request.as_bytes()).unwrap();
    stream.set_read_timeout(Some(Duration::from_millis(200))).unwrap();
    let end = Instant::now() + length;
    let (mut told, mut line) = (Vec::new(), String::new());
    let mut reader = BufReader::new(stream);
    while Instant::now() < end {
        line.clear();
        // A time-out may leave a part of a line, which the next read goes on with.
        while Instant::now() < end && !line.ends_with('\n') {
            let _ = reader.read_line(&mut line);
        }
        if let Some(data) = line.strip_prefix("data: ") {
            let event: Value = serde_json::from_str(data).unwrap();
            let numbers = event["streams"]["streams"].is_array();
            told.push((event["topic"].as_str().unwrap().to_owned(), numbers));
        }
    }
    told
}

#[test]
fn while_something_plays_consoles_are_told_once_a_second_and_records_are_left_alone() {
    const PLAYER: &str = "127.0.0.46";
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.meet(PLAYER);
        house.admit(PLAYER);
        let film = media_path(&browse(PLAYER, "video-all"), "Harbour at dawn");
        ask(PLAYER, "GET", &film, "");
        house.await_step(PLAYER, "started");
        // Each write of a device is counted as it is made: statistics come late.
        let counting = "create sequence writes; \
             create function counted() returns trigger language plpgsql as \
             $$ begin perform nextval('writes'); return null; end $$; \
             create trigger counted after insert or update on device \
             for each row execute function counted()";
        query(&house.database_url, counting);
        let writes = "select case when is_called then last_value else 0 end from writes";
        let count = || -> u64 { query(&house.database_url, writes).parse().unwrap() };
        // What is not saved yet of all that comes with the next batch, or once a minute.
        std::thread::sleep(Duration::from_millis(1500));
        let before = count();
        let playing = std::sync::atomic::AtomicBool::new(true);
        let told = std::thread::scope(|scope| {
            scope.spawn(|| {
                while playing.load(std::sync::atomic::Ordering::Relaxed) {
                    ask(PLAYER, "GET", &film, "Range: bytes=0-4000\r\n");
                    std::thread::sleep(Duration::from_millis(20));
                }
            });
            let told = live(&house, Duration::from_secs(6));
            playing.store(false, std::sync::atomic::Ordering::Relaxed);
            told
        });
        let streams = told.iter().filter(|(topic, _)| topic == "streams");
        assert!((3..=8).contains(&streams.clone().count()), "{told:?}");
        assert!(streams.clone().all(|(_, numbers)| *numbers), "{told:?}");
        assert!(told.iter().filter(|(topic, _)| topic == "devices").count() <= 2, "{told:?}");
        assert!(count() - before <= 2, "{} writes of the device", count() - before);
    });
}
