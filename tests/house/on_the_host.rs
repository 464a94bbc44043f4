//! People on the host: known by the kernel, through the socket; and the first account.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::process::CommandExt as _;

use mostra_tests::browser::Browser;
use mostra_tests::{House, PASSWORD, in_a_house, query, raw};

const TV: &str = "127.0.0.61";

/// The client by the socket, as some user of the system.
fn as_user(house: &House, user: u32, arguments: &[&str]) -> (bool, String) {
    let mut command = house.client_command(arguments);
    command.env_remove("MOSTRA_CONSOLE").env_remove("MOSTRA_TOKEN_FILE");
    command.env("MOSTRA_SOCKET", house.socket()).env("HOME", "/nowhere").uid(user).gid(user);
    let output = command.output().unwrap();
    let said = [output.stdout, output.stderr].concat();
    (output.status.success(), String::from_utf8_lossy(&said).into_owned())
}

/// N2: whoever comes first on the host is not whoever owns the house.
#[test]
fn the_first_account_needs_the_socket_or_the_code() {
    in_a_house(|house| {
        let _service = house.start();
        let body = format!(r#"{{"name":"house","password":"{PASSWORD}"}}"#);
        let ask = |body: &str| {
            let request = format!(
                "POST /api/v1/accounts HTTP/1.1\r\nHost: 127.0.0.1:7641\r\n\
                 Content-Type: application/json\r\nContent-Length: {}\r\n\
                 Connection: close\r\n\r\n{body}",
                body.len()
            );
            raw::exchange("127.0.0.1", "127.0.0.1:7641", &request).unwrap().status
        };
        assert_eq!(ask(&body), 403, "without a code");
        assert_eq!(ask(&body.replace('}', r#","code":"abcdefghjkmn"}"#)), 403, "with another one");
        let said = house.client(&["login", "--password-file", "/dev/null"]);
        let said = [said.stdout, said.stderr].concat();
        let said = String::from_utf8_lossy(&said).into_owned();
        assert!(
            said.contains("no account yet") && said.contains("mostrad account first"),
            "{said}"
        );
        let printed = house.service_command().args(["account", "first"]).output().unwrap();
        let code = String::from_utf8(printed.stdout).unwrap().trim().to_owned();
        assert!(house.log().contains(&code), "the log says it as well");
        let kept = house.data.path().join("first-account-code");
        assert_eq!(fs::metadata(&kept).unwrap().permissions().mode() & 0o777, 0o600);

        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let browser = Browser::open().await;
            browser.go("/").await;
            browser.sees("Make its first account").await;
            browser.fill("Code of the first account", "wrong").await;
            browser.fill("Password", PASSWORD).await;
            browser.fill("Password again", PASSWORD).await;
            browser.press("Begin").await;
            browser.sees("code").await;
            browser.fill("Code of the first account", &code.to_uppercase()).await;
            browser.press("Begin").await;
            browser.sees("Today").await;
            browser.close().await;
        });
        assert!(!kept.exists(), "it is good once");
        let again = house.service_command().args(["account", "first"]).output().unwrap();
        let said = String::from_utf8_lossy(&again.stderr).into_owned();
        assert!(!again.status.success() && said.contains("there is an account already"), "{said}");
    });
}

/// N2, N3: the kernel says who asks by the socket.
#[test]
fn by_the_socket_root_is_known_and_others_are_not() {
    in_a_house(|house| {
        let _service = house.begin();
        let said = house.on_host(&["login"]);
        assert!(said.contains("this house knows you as root on the host"), "{said}");
        house.on_host(&["house", "name", "Pellworth Light"]);
        house.meet(TV);
        house.on_host(&["device", "admit", TV]);
        let who = query(&house.database_url, "select who from decision");
        assert_eq!(who, "root on the host");

        // Another user does not even get there.
        let data = house.data.path();
        fs::set_permissions(data, fs::Permissions::from_mode(0o755)).unwrap();
        let (ended, said) = as_user(&house, 60_123, &["status"]);
        assert!(!ended && said.contains("mostra-admin"), "{said}");
        // Where he does, he is refused all the same.
        fs::set_permissions(house.socket(), fs::Permissions::from_mode(0o666)).unwrap();
        let (ended, said) = as_user(&house, 60_123, &["status"]);
        assert!(!ended && said.contains("You may not see to this house"), "{said}");
        let (ended, said) = as_user(&house, 60_123, &["login", "--password-file", "/dev/null"]);
        assert!(!ended && said.contains("You may not see to this house"), "{said}");
    });
}

/// The client never takes another house for the one of this host.
#[test]
fn without_a_socket_the_client_says_so_and_tries_no_port() {
    in_a_house(|house| {
        let listener = std::net::TcpListener::bind("127.0.0.1:7741").unwrap();
        listener.set_nonblocking(true).unwrap();
        let (ended, said) = as_user(&house, 0, &["status"]);
        assert!(!ended && said.contains("there is no socket"), "{said}");
        assert!(listener.accept().is_err(), "nobody came");
    });
}

/// N15: a restart leaves no moment in which another user has the ports.
#[test]
fn a_restart_keeps_the_listening_sockets() {
    in_a_house(|house| {
        let service = house.begin();
        let process = service.id();
        let stop = std::sync::atomic::AtomicBool::new(false);
        let taken = std::thread::scope(|scope| {
            let tries = scope.spawn(|| {
                let (mut tries, mut taken) = (0_u32, Vec::new());
                while !stop.load(std::sync::atomic::Ordering::SeqCst) {
                    for port in [7640, 7641] {
                        tries += 1;
                        let bound = std::net::TcpListener::bind(("127.0.0.1", port));
                        taken.extend(bound.is_ok().then_some(port));
                    }
                }
                (tries, taken)
            });
            for _ in 0..3 {
                house.mostra(&["house", "restart"]);
            }
            stop.store(true, std::sync::atomic::Ordering::SeqCst);
            tries.join().unwrap()
        });
        assert!(taken.0 > 100 && taken.1.is_empty(), "{taken:?}");
        assert_eq!(service.id(), process);
        // No program that is started has them, and none is left over.
        let open = std::fs::read_dir(format!("/proc/{process}/fd")).unwrap().count();
        house.mostra(&["house", "restart"]);
        let now = std::fs::read_dir(format!("/proc/{process}/fd")).unwrap().count();
        assert!(now <= open + 3, "{open} descriptors became {now}");
    });
}
