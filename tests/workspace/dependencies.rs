//! What we depend on: licences, sources, versions, and whether it is used. `deny.toml` holds the
//! lists, which cargo-deny reads as well (`make dependencies`).

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::process::Command;

use serde_json::Value;

use mostra_tests::top;

/// All that is built here, as cargo resolves it.
fn resolved() -> Value {
    // What is for other systems was not fetched.
    let target = format!("{}-unknown-linux-gnu", std::env::consts::ARCH);
    let output = Command::new(env!("CARGO"))
        .args(["metadata", "--format-version", "1", "--offline", "--locked"])
        .args(["--filter-platform", &target])
        .current_dir(top())
        .output()
        .expect("cargo metadata");
    let said = String::from_utf8_lossy(&output.stderr);
    serde_json::from_slice(&output.stdout).unwrap_or_else(|error| panic!("{error}: {said}"))
}

/// A line for each package as it is really built here: with the features that are in use.
fn built(format: &str) -> String {
    let output = Command::new(env!("CARGO"))
        .args(["tree", "--workspace", "--offline", "--locked", "--prefix", "none"])
        .args(["--format", format])
        .current_dir(top())
        .output()
        .expect("cargo tree");
    String::from_utf8(output.stdout).expect("text")
}

/// Whether a licence expression can be met with allowed licences. Parentheses stand around parts of
/// an AND.
fn is_met(expression: &str, allowed: &[String]) -> bool {
    let words = expression.replace(['(', ')'], " ").replace('/', " OR ");
    let one = |word: &str| allowed.iter().any(|allowed| allowed == word.trim());
    let any = |part: &str| part.split(" OR ").any(one);
    if expression.contains('(') || !expression.contains(" OR ") {
        words.split(" AND ").all(any)
    } else {
        words.split(" OR ").any(|part| part.split(" AND ").all(one))
    }
}

#[test]
fn dependencies_come_from_one_registry_under_licences_that_are_allowed() {
    let allowed: Vec<String> = listed("allow = [")
        .split(',')
        .map(|one| one.trim().trim_matches('"').to_owned())
        .filter(|one| !one.is_empty())
        .collect();
    let mut count = 0;
    for line in built("{p}|{l}").lines().filter(|line| !line.is_empty()) {
        let (package, licence) = line.split_once('|').expect("a package and its licence");
        let licence = licence.trim_end_matches(" (*)");
        let place = package.replace("(proc-macro)", "");
        // Those of the registry are named without a place.
        let ours = place.contains(top().to_str().expect("text"));
        assert!(ours || !place.contains('('), "{package} is neither ours nor from the registry");
        // An exception only gives more.
        let licence = licence.replace(" WITH LLVM-exception", "");
        assert!(is_met(&licence, &allowed), "{package}: {licence}");
        count += 1;
    }
    assert!(count > 300, "{count}");
    assert!(is_met("MIT OR GPL-3.0", &allowed) && !is_met("MIT AND GPL-3.0", &allowed));
    assert!(is_met("(MIT OR X) AND ISC", &allowed) && !is_met("GPL-3.0", &allowed));
}

#[test]
fn no_dependency_asks_for_a_later_compiler_than_we_state() {
    let metadata = resolved();
    // 1.94 and 1.94.0 are the same.
    let version = |text: &str| -> [u32; 3] {
        let mut numbers = text.split('.').map(|n| n.parse().unwrap());
        std::array::from_fn(|_| numbers.next().unwrap_or(0))
    };
    let packages = metadata["packages"].as_array().expect("packages");
    let ours = packages.iter().find(|p| p["name"] == "mostra-protocol").unwrap();
    let stated = version(ours["rust_version"].as_str().expect("a stated version"));
    for package in packages {
        let Some(asked) = package["rust_version"].as_str() else { continue };
        let name = package["name"].as_str().unwrap();
        assert!(version(asked) <= stated, "{name} asks for Rust {asked}");
    }
}

/// The part of deny.toml between two marks.
fn listed(from: &str) -> String {
    let listed = std::fs::read_to_string(top().join("deny.toml")).expect("deny.toml");
    let (_, list) = listed.split_once(from).expect("a list");
    list.split_once("\n]").or_else(|| list.split_once(']')).expect("its end").0.to_owned()
}

#[test]
fn of_each_library_one_version_is_built_but_for_those_that_are_named() {
    let metadata = resolved();
    let named: Vec<String> = listed("skip-tree = [")
        .lines()
        .filter_map(|line| Some(line.split_once("crate = \"")?.1.split_once('"')?.0.to_owned()))
        .collect();
    let text = |value: &Value| value.as_str().expect("text").to_owned();
    let packages: BTreeMap<String, (String, String)> = metadata["packages"]
        .as_array()
        .expect("packages")
        .iter()
        .map(|p| (text(&p["id"]), (text(&p["name"]), text(&p["version"]))))
        .collect();
    let needs: BTreeMap<String, Vec<String>> = metadata["resolve"]["nodes"]
        .as_array()
        .expect("nodes")
        .iter()
        .map(|node| {
            let needs = node["dependencies"].as_array().expect("dependencies");
            (text(&node["id"]), needs.iter().map(text).collect())
        })
        .collect();
    // A line names a library by the beginning of its version, and with it all that it needs.
    let is_named = |(name, version): &(String, String), line: &str| {
        let (of, begins) = line.split_once('@').expect("a name and a version");
        name == of && (version == begins || version.starts_with(&format!("{begins}.")))
    };
    let mut skipped = BTreeSet::new();
    for line in &named {
        let roots = packages.iter().filter(|(_, package)| is_named(package, line));
        let mut left: Vec<&String> = roots.map(|(id, _)| id).collect();
        assert!(!left.is_empty(), "deny.toml names {line}, which is not built any more");
        while let Some(id) = left.pop() {
            if skipped.insert(id.clone()) {
                left.extend(needs.get(id).into_iter().flatten());
            }
        }
    }
    let built = built("{p}|");
    let built: BTreeSet<&str> = built.lines().filter_map(|line| line.split('|').next()).collect();
    let is_built = |name: &str, version: &str| {
        let words = format!("{name} v{version}");
        built.iter().any(|line| *line == words || line.starts_with(&format!("{words} ")))
    };
    let mut versions: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for (id, (name, version)) in packages.iter().filter(|(id, _)| needs.contains_key(*id)) {
        if !skipped.contains(id) && is_built(name, version) {
            versions.entry(name).or_default().push(version);
        }
    }
    let twice: Vec<_> = versions.iter().filter(|(_, versions)| versions.len() > 1).collect();
    assert!(twice.is_empty(), "{twice:?}");
}

/// The text of all Rust files in a directory and below.
fn sources(directory: &Path) -> String {
    let mut all = String::new();
    for entry in std::fs::read_dir(directory).expect("a directory").flatten() {
        let path = entry.path();
        if path.is_dir() {
            all.push_str(&sources(&path));
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            all.push_str(&std::fs::read_to_string(&path).expect("a source"));
        }
    }
    all
}

#[test]
fn every_dependency_is_used() {
    let metadata = resolved();
    let members = metadata["workspace_members"].as_array().expect("members");
    let packages = metadata["packages"].as_array().expect("packages");
    let mut count = 0;
    for package in packages.iter().filter(|package| members.contains(&package["id"])) {
        let manifest = Path::new(package["manifest_path"].as_str().expect("a path"));
        let text = sources(manifest.parent().expect("a directory"));
        // Those whose library has another name.
        let other = package["metadata"]["cargo-machete"]["ignored"].as_array();
        let other = other.map(Vec::as_slice).unwrap_or_default();
        for dependency in package["dependencies"].as_array().expect("dependencies") {
            if other.contains(&dependency["name"]) {
                continue;
            }
            let named = dependency["rename"].as_str().or(dependency["name"].as_str());
            let name = named.expect("a name").replace('-', "_");
            let whole = |at: usize| {
                let around = |c: Option<char>| c.is_none_or(|c| !c.is_alphanumeric() && c != '_');
                around(text[..at].chars().next_back())
                    && around(text[at + name.len()..].chars().next())
            };
            let used = text.match_indices(&name).any(|(at, _)| whole(at));
            assert!(used, "{} does not use {name}", package["name"]);
            count += 1;
        }
    }
    assert!(count > 100, "{count}");
}
