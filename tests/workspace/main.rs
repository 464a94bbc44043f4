//! The shape of the code itself: arrows, purity, the committed OpenAPI document, conformance.
// A test that cannot go on has failed: that is what unwrap says.
#![allow(clippy::unwrap_used)]

mod dependencies;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::Command;

use mostra_core::traits::Traits;
use mostra_tests::{binary, top};
use serde_json::Value;

/// What cargo knows of our crates.
fn packages() -> Vec<Value> {
    let output = Command::new(env!("CARGO"))
        .args(["metadata", "--format-version", "1", "--no-deps", "--offline"])
        .current_dir(top())
        .output()
        .expect("cargo metadata");
    let metadata: Value = serde_json::from_slice(&output.stdout).expect("JSON");
    metadata["packages"].as_array().expect("packages").clone()
}

/// Dependencies of our crates by name, those for tests left out.
fn dependencies() -> BTreeMap<String, Vec<String>> {
    packages()
        .iter()
        .map(|p| {
            let direct = p["dependencies"].as_array().expect("dependencies").iter();
            let direct = direct
                .filter(|d| d["kind"].is_null())
                .map(|d| d["name"].as_str().unwrap().to_owned());
            (p["name"].as_str().unwrap().to_owned(), direct.collect())
        })
        .collect()
}

#[test]
fn arrows_point_one_way() {
    let allowed = BTreeMap::from([
        ("mostra-protocol", vec![]),
        ("mostra-core", vec!["mostra-protocol"]),
        ("mostra-pixels", vec![]),
        ("mostra-media", vec!["mostra-core", "mostra-pixels"]),
        ("mostra-store", vec!["mostra-core"]),
        ("mostra-api", vec![]),
        ("mostra-net", vec!["mostra-protocol"]),
        (
            "mostra-app",
            vec!["mostra-protocol", "mostra-core", "mostra-media", "mostra-store", "mostra-net"],
        ),
        // The listeners do not know each other.
        (
            "mostra-directory",
            vec!["mostra-protocol", "mostra-core", "mostra-media", "mostra-net", "mostra-app"],
        ),
        (
            "mostra-console-api",
            vec![
                "mostra-protocol",
                "mostra-core",
                "mostra-media",
                "mostra-store",
                "mostra-net",
                "mostra-app",
                "mostra-api",
            ],
        ),
        (
            "mostrad",
            vec![
                "mostra-protocol",
                "mostra-core",
                "mostra-media",
                "mostra-store",
                "mostra-net",
                "mostra-app",
                "mostra-directory",
                "mostra-console-api",
                "mostra-api",
                "mostra-manual",
            ],
        ),
        ("mostra-client", vec!["mostra-api", "mostra-manual"]),
        ("mostra-manual", vec![]),
        ("mostra-stage", vec!["mostra-protocol", "mostra-net", "mostra-manual"]),
        ("mostra-tests", vec!["mostra-core", "mostra-media", "mostra-protocol", "mostra-store"]),
        ("mostra-benches", vec!["mostra-tests", "mostra-core", "mostra-media", "mostra-protocol"]),
        ("make-media", vec![]),
    ]);
    for (package, direct) in dependencies() {
        let allowed =
            allowed.get(package.as_str()).unwrap_or_else(|| panic!("{package} is not in the plan"));
        let ours: Vec<&String> = direct.iter().filter(|d| d.starts_with("mostra-")).collect();
        for arrow in ours {
            assert!(allowed.contains(&arrow.as_str()), "{package} must not use {arrow}");
        }
    }
}

#[test]
fn protocol_and_core_stay_pure() {
    // Whatever else comes in must be asked for here, with its reason.
    let pure = BTreeMap::from([
        // Tables of charsets, which bodies from outside may be in.
        // Dates in the forms of HTTP. Subnets. Addresses relative to others.
        (
            "mostra-protocol",
            vec![
                "quick-xml",
                "thiserror",
                "fastrand",
                "itoa",
                "encoding_rs",
                "httpdate",
                "ipnet",
                // Recorded conversations; derives alone.
                "serde",
                "url",
            ],
        ),
        (
            "mostra-core",
            vec![
                "mostra-protocol",
                "unicode-normalization",
                "serde",
                // Derives alone.
                "thiserror",
                "postcard",
                "memchr",
                "rayon",
                "ipnet",
                // Addresses of stations.
                "url",
                // The house as a file.
                "toml",
            ],
        ),
    ]);
    let all = dependencies();
    for (package, allowed) in pure {
        for dependency in &all[package] {
            assert!(allowed.contains(&dependency.as_str()), "{package} gained {dependency}");
        }
        let folder = top().join("crates").join(package.trim_start_matches("mostra-")).join("src");
        let mut files = vec![folder];
        while let Some(path) = files.pop() {
            if path.is_dir() {
                files.extend(std::fs::read_dir(path).unwrap().flatten().map(|e| e.path()));
                continue;
            }
            let text = std::fs::read_to_string(&path).unwrap();
            for (number, line) in text.lines().enumerate() {
                let code = line.split("//").next().unwrap_or_default();
                for impure in [
                    "std::fs",
                    "std::thread",
                    "UdpSocket",
                    "TcpStream",
                    "TcpListener",
                    "Instant::now",
                    "SystemTime",
                    "async fn",
                    ".await",
                    "std::env",
                    "std::process",
                    "unsafe ",
                ] {
                    assert!(!code.contains(impure), "{}:{}: {impure}", path.display(), number + 1);
                }
            }
        }
    }
}

#[test]
fn the_console_was_made_for_this_interface() {
    let output = Command::new(binary("mostrad")).arg("--openapi").output().expect("mostrad runs");
    let now: Value = serde_json::from_slice(&output.stdout).expect("JSON");
    let text = std::fs::read_to_string(top().join("console/src/api/openapi.json")).unwrap();
    let committed: Value = serde_json::from_str(&text).unwrap();
    assert!(
        now == committed,
        "run `make api`: the interface changed and the console's types did not"
    );
}

/// The source files below a folder.
fn sources(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(path) = folders.pop() {
        if path.is_dir() {
            folders.extend(std::fs::read_dir(path).unwrap().flatten().map(|e| e.path()));
        } else if path.extension().is_some_and(|e| e == "rs") {
            found.push(path);
        }
    }
    found
}

/// The functions of a source file that are tests. Whether they ran is looked at by scripts/test.
fn names_of_tests(source: &str) -> Vec<String> {
    let mut names = Vec::new();
    let mut is_test = false;
    for line in source.lines().map(str::trim) {
        if line.starts_with("#[") {
            is_test |= line.ends_with("test]") || line.contains("test(");
        } else if let Some(rest) = line.trim_start_matches("async ").strip_prefix("fn ") {
            let name = rest.split(['(', '<']).next().unwrap_or_default();
            if std::mem::take(&mut is_test) {
                names.push(name.to_owned());
            }
        } else if !line.starts_with("//") && !line.is_empty() {
            is_test = false;
        }
    }
    names
}

#[test]
fn only_what_is_marked_as_a_test_counts_as_one() {
    let source = "#[test]\n#[should_panic]\nfn a() {\n}\nfn b(\n#[tokio::test]\nasync fn c() {}\n\
                  proptest! {\n    #[test]\n    fn d(x in 0..1) {}\n}\n#[test]\nmod e {}\nfn f() {}";
    assert_eq!(names_of_tests(source), ["a", "c", "d"]);
}

#[test]
fn what_is_not_built_for_tests_has_none() {
    let mut found = 0;
    for package in packages() {
        for target in package["targets"].as_array().unwrap() {
            let kind = target["kind"][0].as_str().unwrap();
            if target["test"] == true || kind == "custom-build" {
                continue;
            }
            found += 1;
            let main = Path::new(target["src_path"].as_str().unwrap());
            // A crate's library lies beside the rest of it.
            let beside = main.parent().unwrap();
            for path in sources(beside) {
                let names = names_of_tests(&std::fs::read_to_string(&path).unwrap());
                assert!(names.is_empty(), "{}: {names:?} never run", path.display());
            }
        }
    }
    assert!(found > 5, "{found}");
}

#[test]
fn conformance_rows_name_tests_that_exist() {
    let table = std::fs::read_to_string(top().join("docs/conformance.csv")).unwrap();
    let mut lines = table.lines();
    assert_eq!(lines.next(), Some("id,level,role,proof,test,negative,status,note"));
    let mut tests = std::collections::BTreeSet::new();
    for path in [sources(&top().join("crates")), sources(&top().join("tests"))].concat() {
        tests.extend(names_of_tests(&std::fs::read_to_string(path).unwrap()));
    }
    assert!(tests.len() > 400, "{}", tests.len());
    let mut seen = std::collections::BTreeSet::new();
    for line in lines {
        let columns: Vec<&str> = line.splitn(8, ',').collect();
        let [id, level, role, _, test, negative, status, note] = columns[..] else {
            panic!("{line}")
        };
        assert!(seen.insert(id.to_owned()), "{id} is there twice");
        assert!(
            ["MUST", "SHOULD", "MAY"].contains(&level) && ["server", "cp", "both"].contains(&role),
            "{line}"
        );
        assert!(["proved", "partly", "waived", "open"].contains(&status), "{line}");
        assert!(status != "proved" || !test.is_empty(), "{id} is proved by nothing");
        assert!(
            status == "proved" || status == "open" || !note.is_empty(),
            "{id}: say what is missing"
        );
        for name in [test, negative].into_iter().filter(|n| !n.is_empty()) {
            assert!(tests.contains(name), "{id}: there is no test {name}");
        }
    }
    let all: std::collections::BTreeSet<String> = requirements().into_iter().collect();
    assert!(all.len() > 400, "{}", all.len());
    assert_eq!(seen, all);
}

/// The numbers in docs/requirements.md, in their order.
fn requirements() -> Vec<String> {
    let text = std::fs::read_to_string(top().join("docs/requirements.md")).unwrap();
    let numbered = text.lines().filter_map(|line| line.strip_prefix("- **")?.split_once("** "));
    numbered.map(|(id, _)| id.to_owned()).filter(|id| id.contains('-')).collect()
}

#[test]
fn cited_requirements_exist() {
    let numbers: std::collections::BTreeSet<String> = requirements().into_iter().collect();
    let families: std::collections::BTreeSet<&str> =
        numbers.iter().filter_map(|id| id.split_once('-')).map(|(family, _)| family).collect();
    // Not ours, and written in the same way.
    let others = ["SHA-256", "UTF-8", "UTF-16", "MPEG-1", "MPEG-2", "MPEG-4", "DMS-1"];
    let mut cited = 0;
    let mut folders: Vec<_> =
        ["crates", "tests", "benches", "console/src"].map(|name| top().join(name)).into();
    while let Some(path) = folders.pop() {
        if path.is_dir() {
            folders.extend(std::fs::read_dir(path).unwrap().flatten().map(|e| e.path()));
            continue;
        }
        if !path.extension().is_some_and(|e| e == "rs" || e == "ts" || e == "tsx") {
            continue;
        }
        let source = std::fs::read_to_string(&path).unwrap();
        for word in source.split(|c: char| !c.is_ascii_alphanumeric() && c != '-') {
            let Some((family, number)) = word.split_once('-') else { continue };
            let is_id = families.contains(family)
                && !number.is_empty()
                && number.bytes().all(|b| b.is_ascii_digit());
            if is_id && !others.contains(&word) {
                cited += 1;
                assert!(numbers.contains(word), "{word} in {} is no requirement", path.display());
            }
        }
    }
    assert!(cited > 200, "{cited}");
}

/// N13: what comes from the network moves no cursor on the terminal of whoever looks.
#[test]
fn the_client_prints_nothing_that_is_not_made_fit_for_a_terminal() {
    for path in sources(&top().join("crates/client/src")) {
        if path.ends_with("output.rs") {
            continue;
        }
        let source = std::fs::read_to_string(&path).unwrap();
        for printing in ["print!(", "println!(", "write!(std::io", "stdout().lock", "stderr().lock"]
        {
            assert!(!source.contains(printing), "{printing} in {}", path.display());
        }
        let writes =
            source.matches("stdout()").count() - source.matches("stdout().is_terminal").count();
        assert_eq!(writes, 0, "standard output is written in {}", path.display());
    }
}

#[test]
fn the_table_of_traits_is_that_of_the_code() {
    let text = std::fs::read_to_string(top().join("docs/traits.md")).unwrap();
    let table = text.lines().filter(|line| line.starts_with("| `"));
    let documented: Vec<&str> = table.collect();
    let explained: Vec<String> = Traits::EXPLANATIONS
        .iter()
        .map(|e| format!("| `{}` | {} | {} |", e.name.replace('_', "-"), e.value, e.effect))
        .collect();
    assert_eq!(documented, explained);
}

#[test]
fn the_glossary_of_the_documents_is_that_of_console_and_client() {
    let page = std::fs::read_to_string(top().join("docs/glossary.md")).expect("docs/glossary.md");
    let rows: Vec<&str> = page.lines().filter(|line| line.starts_with("| ")).skip(2).collect();
    let terms = mostra_core::glossary::TERMS.iter();
    let expected: Vec<String> =
        terms.map(|term| format!("| {} | {} |", term.term, term.means)).collect();
    assert_eq!(rows, expected);
}
