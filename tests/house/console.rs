//! The console listener: login, guards, the door to the house, and the pages by keyboard.

use std::os::unix::fs::PermissionsExt;

use mostra_tests::browser::Browser;
use mostra_tests::raw::exchange;
use mostra_tests::{PASSWORD, in_a_house, query, raw};

const CONSOLE: &str = "127.0.0.1:7641";

fn send(method: &str, path: &str, fields: &str, body: &str) -> raw::Answer {
    let request = format!(
        "{method} /api/v1{path} HTTP/1.1\r\nHost: {CONSOLE}\r\nContent-Type: application/json\r\n{fields}Content-Length: {}\r\nConnection: close\r\n\r\n{body}",
        body.len()
    );
    exchange("127.0.0.1", CONSOLE, &request).expect("an answer")
}

/// The HMAC-SHA-256 of a text by a key in hexadecimal digits.
fn mac(key: &str, text: &str) -> String {
    use hmac::Mac as _;
    let key: Vec<u8> = (0..key.len())
        .step_by(2)
        .map(|n| u8::from_str_radix(&key[n..n + 2], 16).unwrap())
        .collect();
    let mut mac = hmac::Hmac::<sha2::Sha256>::new_from_slice(&key).unwrap();
    mac.update(text.as_bytes());
    format!("{:x}", mac.finalize().into_bytes())
}

#[test]
fn only_who_signed_in_gets_in_and_only_from_our_own_pages() {
    in_a_house(|house| {
        let _service = house.start();
        for path in [
            "/status",
            "/folders",
            "/devices",
            "/config",
            "/catalogue/0/children",
            "/places",
            "/live",
            "/streams",
        ] {
            assert_eq!(send("GET", path, "", "").status, 401, "{path}");
        }
        assert_eq!(send("POST", "/accounts", "", r#"{"password":"short"}"#).status, 422);
        let problem = send("POST", "/accounts", "", "{oops");
        assert_eq!(
            (problem.status, problem.field("content-type")),
            (400, Some("application/problem+json"))
        );
        let first = format!(r#"{{"password":"{PASSWORD}","code":"{}"}}"#, house.first_code());
        assert_eq!(send("POST", "/accounts", "", &first).status, 201);
        assert_eq!(
            send("POST", "/accounts", "", &format!(r#"{{"name":"me","password":"{PASSWORD}"}}"#))
                .status,
            403,
            "a code is needed now"
        );
        assert_eq!(send("POST", "/session", "", r#"{"password":"wrong wrong"}"#).status, 401);
        let login = send("POST", "/session", "", &format!(r#"{{"password":"{PASSWORD}"}}"#));
        let cookie = login.field("set-cookie").unwrap();
        assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
        let cookie = format!("Cookie: {}\r\n", cookie.split(';').next().unwrap());
        let text = login.text();
        let of =
            |name: &str| raw::between(&text, &format!("\"{name}\":\""), "\"").unwrap().to_owned();
        let page = format!("{cookie}X-Page-Secret: {}\r\n", of("page_secret"));
        assert_eq!(send("GET", "/status", &page, "").status, 200);
        for path in ["/folders/7", "/folders/abc", "/devices/9", "/catalogue/nowhere", "/nothing"] {
            let missing = send("GET", path, &page, "");
            assert_eq!(
                (missing.status, missing.field("content-type")),
                (404, Some("application/problem+json")),
                "{path}"
            );
        }
        let rename = r#"{"name":"Renamed"}"#;
        // A cookie goes to every port of a host: it opens nothing by itself.
        assert_eq!(send("PATCH", "/house", &cookie, rename).status, 401);
        for path in ["/status", "/live", "/house/file", "/support"] {
            assert_eq!(send("GET", path, &cookie, "").status, 401, "{path}");
        }
        // What the browser fetches by itself has a key for this session and object.
        let (session, secret) = (of("session"), of("secret"));
        let keyed = |path: &str, object: &str| {
            let mac = mac(&secret, object);
            send("GET", &format!("{path}?key={session}.{mac}"), "", "").status
        };
        assert_eq!(keyed("/house/file", "/house/file"), 200);
        assert_eq!(keyed("/house/file", "/support"), 401, "of another object");
        assert_eq!(keyed("/status", "/status"), 401, "it is for no other call");
        let foreign = format!("{page}Origin: http://evil.example\r\n");
        assert_eq!(send("PATCH", "/house", &foreign, rename).status, 403, "another site's page");
        assert_eq!(send("PATCH", "/house", &page, rename).status, 200);
        assert_eq!(send("DELETE", "/session", &page, "").status, 204);
        assert_eq!(send("GET", "/status", &page, "").status, 401, "signed out");
        assert_eq!(keyed("/house/file", "/house/file"), 401, "it ends with the session");
        let log = house.log();
        assert!(!log.contains("key=") && !log.contains(&session), "no key in the log");

        let rebound = "GET /api/v1/setup HTTP/1.1\r\nHost: evil.example:7641\r\n\r\n";
        assert_eq!(exchange("127.0.0.1", CONSOLE, rebound).unwrap().status, 421);
        let page = raw::get(CONSOLE, "/").unwrap();
        assert!(page.field("content-security-policy").unwrap().contains("default-src 'self'"));
        assert_eq!(page.field("x-content-type-options"), Some("nosniff"));
        assert_eq!(page.field("x-frame-options"), Some("DENY"));
        let stored = query(&house.database_url, "select password_hash from account");
        assert!(stored.starts_with("$argon2id$"));
    });
}

#[test]
fn the_clients_token_is_for_its_owner_only() {
    in_a_house(|house| {
        let _service = house.begin();
        let mode = std::fs::metadata(house.data.path().join("token")).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
        house.mostra(&["status"]);
        house.mostra(&["logout"]);
        assert!(house.mostra_fails(&["status"]).contains("Not signed in"));
        assert_eq!(house.client(&["folder", "dance"]).status.code(), Some(2), "misuse");
    });
}

#[test]
fn the_door_to_the_house_opens_by_tls_with_one_time_codes() {
    in_a_house(|house| {
        let mut service = house.begin();
        assert!(
            std::net::TcpStream::connect("127.0.0.1:7642").is_err(),
            "closed until a person opens it"
        );
        let said = house.mostra(&["console", "open"]);
        assert!(said.contains("https://127.0.0.1:7642"), "{said}");
        let fetch = |arguments: &[&str]| {
            let output = std::process::Command::new("curl")
                .args(["-sk", "-o", "/dev/null", "-w", "%{http_code} %{certs}"])
                .args(arguments)
                .output()
                .expect("curl runs");
            String::from_utf8_lossy(&output.stdout).into_owned()
        };
        assert!(fetch(&["https://127.0.0.1:7642/"]).starts_with("200"));
        let account = |code: &str| {
            let body =
                format!(r#"{{"name":"tablet","password":"beside the set","code":"{code}"}}"#);
            fetch(&[
                "-H",
                "Content-Type: application/json",
                "-d",
                &body,
                "https://127.0.0.1:7642/api/v1/accounts",
            ])
        };
        assert!(account("wrong").starts_with("403"));
        let code = house.json(&["console", "code"])["code"].as_str().unwrap().to_owned();
        assert!(account(&code).starts_with("201"));
        assert!(account(&code).starts_with("403"), "a code counts once");
        let key = house.data.path().join("console.key");
        assert_eq!(std::fs::metadata(key).unwrap().permissions().mode() & 0o777, 0o600);
        // It stays open over a restart, and closes.
        assert!(service.stop());
        let _service = house.start();
        mostra_tests::until(30, "the door", || {
            fetch(&["https://127.0.0.1:7642/"]).starts_with("200").then_some(())
        });
        house.mostra(&["console", "close"]);
        mostra_tests::until(30, "the door to close", || {
            fetch(&["https://127.0.0.1:7642/"]).starts_with("000").then_some(())
        });
        house.mostra(&["status"]);
    });
}

#[test]
fn pages_fit_from_360_to_1920_and_work_by_keyboard() {
    in_a_house(|house| {
        let _service = house.begin();
        house.mostra(&["house", "name", "Pellworth Light"]);
        for folder in ["Films", "Sound", "Pictures"] {
            house.publish(folder);
        }
        raw::ask("127.0.0.71", "GET", "/about/device.xml", "User-Agent: Skerrin/2\r\n");
        raw::ask("127.0.0.71", "GET", "/media/none", "User-Agent: Skerrin/2\r\n");
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let browser = Browser::open().await;
            browser.size(1280, 800).await;
            browser.go("/").await;
            browser.sign_in(PASSWORD).await;
            browser.sees("One waits at the door").await;
            for (width, height) in [(360, 740), (820, 1180), (1920, 1080)] {
                browser.size(width, height).await;
                for (path, text) in [
                    ("/", "127.0.0.71"),
                    ("/folders", "Publish a folder"),
                    ("/catalogue/video-all", "Harbour at dawn"),
                    ("/devices/1", "not yet"),
                    ("/settings", "Console in the house"),
                ] {
                    browser.go(path).await;
                    browser.sees(text).await;
                    let wide = browser
                        .page
                        .execute("return document.documentElement.scrollWidth", vec![])
                        .await
                        .unwrap();
                    let wide: u32 = wide.convert().unwrap();
                    assert!(wide <= width, "{path} is {wide} px wide at {width}");
                }
            }
            // One sub-folder is scanned again, and left out.
            browser.size(1280, 800).await;
            house.mostra(&["folder", "remove", "Sound", "--yes"]);
            house.mostra(&["folder", "remove", "Pictures", "--yes"]);
            browser.go("/folders").await;
            browser.press("Sub-folders").await;
            browser.fill("A sub-folder", "Nowhere").await;
            browser.press("Scan it again").await;
            browser.sees("There is no such sub-folder").await;
            browser.fill("A sub-folder", "Fog signal").await;
            browser.press("Scan it again").await;
            browser.press("What the last scans found").await;
            browser.sees("asked for").await;
            browser.press("Sub-folders").await;
            browser.fill("A sub-folder", "Fog signal").await;
            browser.press("Leave it out").await;
            browser.sees("Fog signal is left out").await;
            browser.press("Take it in again").await;
            browser.sees("Films 5").await;
            // By keyboard alone: to the Admit button of the waiting device, and press it.
            browser.size(1280, 800).await;
            browser.go("/").await;
            browser.sees("127.0.0.71").await;
            let mut admitted = false;
            for _ in 0..30 {
                browser
                    .page
                    .action_chain()
                    .send_keys(thirtyfour::Key::Tab + "")
                    .perform()
                    .await
                    .unwrap();
                let focused = browser.page.active_element().await.unwrap();
                if focused.text().await.unwrap() == "Admit" {
                    focused.send_keys(thirtyfour::Key::Enter + "").await.unwrap();
                    admitted = true;
                    break;
                }
            }
            assert!(admitted, "Admit is not reachable by Tab");
            browser.sees("is admitted").await;
            browser.press("Undo").await;
            browser.sees("One waits at the door").await;
            browser.close().await;
        });
        assert_eq!(house.device("127.0.0.71").unwrap()["standing"], "waiting");
    });
}
