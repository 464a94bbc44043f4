//! scripts/postgres never loses a cluster, and lets nobody else in.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown, symlink};
use std::path::Path;
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};

use mostra_tests::{Cluster, query};

/// A cluster that runs and holds one row.
fn with_a_row() -> (Cluster, String) {
    let cluster = Cluster::new();
    let url = cluster.start(true);
    query(&url, "create table kept (word text); insert into kept values ('lamp')");
    (cluster, url)
}

fn row(url: &str) -> String {
    query(url, "select word from kept")
}

/// What a start says that must fail.
fn refused(cluster: &Cluster, change: impl FnOnce(&mut Command)) -> String {
    let output = cluster.script("start", change);
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(!output.status.success() && output.stdout.is_empty(), "{said}");
    said
}

/// Where the server was told to have its sockets.
fn socket_of(cluster: &Cluster) -> String {
    let options = fs::read_to_string(cluster.place().join("postmaster.opts")).unwrap();
    let socket = options
        .split("unix_socket_directories='")
        .nth(1)
        .or_else(|| options.split("unix_socket_directories=").nth(1));
    socket.unwrap().split(['\'', '"', ' ']).next().unwrap().to_owned()
}

fn set_mode(path: &Path, mode: u32) {
    fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
}

const NOBODY: Option<u32> = Some(65534);

#[test]
fn a_lost_url_is_mended_and_no_row_is_lost() {
    let (cluster, url) = with_a_row();
    let kept = cluster.data.join("postgres/url");
    let made = fs::metadata(&kept).unwrap().mtime_nsec();
    assert_eq!(cluster.start(true), url);
    assert_eq!(fs::metadata(&kept).unwrap().mtime_nsec(), made, "written only when it changes");
    cluster.stop();
    fs::write(&kept, "").unwrap();
    fs::remove_file(cluster.data.join("postgres/passfile")).unwrap();
    let again = cluster.start(true);
    assert!(again != url, "a new password");
    assert_eq!(row(&again), "lamp");
    // While it runs, too; and one that is no longer right.
    fs::remove_file(&kept).unwrap();
    assert_eq!(row(&cluster.start(true)), "lamp");
    let wrong = again.replace("mostra:", "mostra:00");
    fs::write(&kept, &wrong).unwrap();
    let mended = cluster.start(true);
    assert!(mended != wrong && mended != again);
    assert_eq!(row(&mended), "lamp");
    assert_eq!(fs::metadata(&kept).unwrap().mode() & 0o777, 0o600);
    // All that is known of it is lost, but not the cluster itself.
    cluster.stop();
    let place = cluster.place();
    fs::remove_dir_all(cluster.data.join("postgres")).unwrap();
    fs::create_dir(cluster.data.join("postgres")).unwrap();
    fs::write(cluster.data.join("postgres/place"), place.to_str().unwrap()).unwrap();
    assert_eq!(row(&cluster.start(true)), "lamp");
}

#[test]
fn what_is_no_cluster_or_cannot_be_entered_is_left_as_it_is() {
    let (cluster, url) = with_a_row();
    cluster.stop();
    let place = cluster.place();
    // Its version file is lost: it is no new cluster for that.
    fs::rename(place.join("PG_VERSION"), place.join("aside")).unwrap();
    let before = fs::read_dir(&place).unwrap().count();
    let said = refused(&cluster, |_| ());
    assert!(said.contains("not empty") && said.contains("backup"), "{said}");
    assert_eq!(fs::read_dir(&place).unwrap().count(), before);
    fs::rename(place.join("aside"), place.join("PG_VERSION")).unwrap();
    // The server's user may no longer enter the directory around it.
    let around = place.parent().unwrap();
    set_mode(around, 0o700);
    let said = refused(&cluster, |_| ());
    assert!(said.contains("can no longer enter") && said.contains("setfacl"), "{said}");
    set_mode(around, 0o755);
    // Somebody else made it, or it is a link to another place.
    chown(&place, NOBODY, None).unwrap();
    let said = refused(&cluster, |_| ());
    assert!(said.contains("somebody else made it"), "{said}");
    let owner = fs::metadata(place.join("PG_VERSION")).unwrap().uid();
    chown(&place, Some(owner), None).unwrap();
    let aside = place.with_extension("aside");
    fs::rename(&place, &aside).unwrap();
    symlink(&aside, &place).unwrap();
    let said = refused(&cluster, |_| ());
    assert!(said.contains("somebody else made it"), "{said}");
    fs::remove_file(&place).unwrap();
    fs::rename(&aside, &place).unwrap();
    assert_eq!(cluster.start(true), url);
    assert_eq!(row(&url), "lamp");
}

#[test]
fn the_role_is_no_superuser_and_only_the_socket_is_listened_to() {
    let (cluster, url) = with_a_row();
    let place = cluster.place();
    assert_eq!(query(&url, "show listen_addresses"), "");
    assert_eq!(
        query(&url, "select rolsuper or rolcreaterole from pg_roles where rolname = user"),
        "f"
    );
    assert_eq!(socket_of(&cluster), place.to_str().unwrap());
    assert_eq!(fs::metadata(&place).unwrap().mode() & 0o777, 0o700);
    // A service's cluster: not even databases.
    cluster.stop();
    assert_eq!(cluster.start(false), url);
    assert_eq!(query(&url, "select rolcreatedb from pg_roles where rolname = user"), "f");

    // No process shows the password in its arguments, whatever the script does.
    let password = url.split(['@', ':']).nth(2).unwrap().to_owned();
    cluster.stop();
    fs::remove_file(cluster.data.join("postgres/passfile")).unwrap();
    let over = AtomicBool::new(false);
    std::thread::scope(|scope| {
        let looking = scope.spawn(|| {
            let (mut looks, mut shown) = (0, Vec::new());
            while !over.load(Ordering::Relaxed) {
                looks += 1;
                for process in fs::read_dir("/proc").unwrap().flatten() {
                    let line = fs::read(process.path().join("cmdline")).unwrap_or_default();
                    let line = String::from_utf8_lossy(&line).into_owned();
                    if line.contains(&password) {
                        shown.push(line);
                    }
                }
            }
            (looks, shown)
        });
        assert_eq!(cluster.start(false), url);
        over.store(true, Ordering::Relaxed);
        let (looks, shown) = looking.join().unwrap();
        assert!(looks > 5 && shown.is_empty(), "{looks} looks: {shown:?}");
    });
}

#[test]
fn a_socket_directory_that_somebody_else_made_is_refused() {
    let all = tempfile::tempdir().unwrap();
    set_mode(all.path(), 0o755);
    // Too long for a socket beside the files.
    let long = all.path().join("a".repeat(90));
    fs::create_dir(&long).unwrap();
    let cluster = Cluster::below(&long);
    let url = cluster.start(true);
    assert_eq!(query(&url, "select 1"), "1");
    let socket = socket_of(&cluster);
    assert!(socket.starts_with("/run/mostra-postgres-"), "{socket}");
    assert_eq!(fs::metadata(&socket).unwrap().mode() & 0o777, 0o700);
    cluster.stop();
    fs::remove_dir_all(&socket).unwrap();
    fs::create_dir(&socket).unwrap();
    chown(&socket, NOBODY, None).unwrap();
    let said = refused(&cluster, |_| ());
    assert!(said.contains("somebody else made it"), "{said}");
    fs::remove_dir(&socket).unwrap();
}

#[test]
fn the_programs_are_those_of_the_clusters_version_and_an_upgrade_keeps_the_old_one() {
    let (cluster, url) = with_a_row();
    cluster.stop();
    let newest = fs::read_dir("/usr/lib/postgresql").unwrap().flatten();
    let newest = newest.max_by_key(|v| v.file_name()).unwrap().path();
    let version = newest.file_name().unwrap().to_str().unwrap().to_owned();
    let versions = tempfile::tempdir().unwrap();
    set_mode(versions.path(), 0o755);
    let install = |number: &str| symlink(&newest, versions.path().join(number)).unwrap();
    let with = |command: &mut Command| {
        command.env("MOSTRA_POSTGRES_VERSIONS", versions.path());
    };
    // This machine has one version, which is installed here under other numbers.
    install("97");
    let said = refused(&cluster, with);
    assert!(said.contains(&format!("apt-get install postgresql-{version}")), "{said}");
    let upgrade = |works: bool| {
        let output = cluster.script("upgrade", with);
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        assert_eq!(output.status.success(), works, "{said}");
        said
    };
    assert!(upgrade(false).contains("no longer installed"));
    install(&version);
    let said = upgrade(true);
    assert!(said.contains("The old cluster is kept in"), "{said}");
    let kept = said.split("kept in ").nth(1).unwrap().split(',').next().unwrap();
    assert!(Path::new(kept).join("PG_VERSION").exists(), "{kept}");
    assert!(said.contains(".dump"), "{said}");
    let after = fs::read_to_string(cluster.data.join("postgres/url")).unwrap();
    assert_eq!(row(after.trim()), "lamp");
    assert!(after.trim() == url || after.contains("mostra:"), "the role has a password");
    assert_eq!(
        query(after.trim(), "select tableowner from pg_tables where tablename = 'kept'"),
        "mostra"
    );
    assert!(upgrade(true).contains("nothing to do"));
}

#[test]
fn a_cluster_of_an_earlier_version_of_the_script_goes_on_with_an_ordinary_role() {
    let cluster = Cluster::new();
    let place = cluster.place();
    let old = r#"
        set -e
        bin=$(ls -d /usr/lib/postgresql/*/bin | sort -V | tail -n 1)
        mkdir "$1" && chown postgres "$1"
        as() { (cd / && setpriv --reuid=postgres --regid=postgres --init-groups "$@"); }
        as "$bin/initdb" -D "$1" -U mostra -A trust --encoding=UTF8 --locale=C.UTF-8
        as "$bin/pg_ctl" -D "$1" -w -l "$1/log" -o "-c listen_addresses='' -c unix_socket_directories=$1" start
        psql -h "$1" -U mostra -d postgres -c 'create database mostra'
        psql -h "$1" -U mostra -d mostra -c 'create table kept (id bigserial, word text)' \
          -c "insert into kept (word) values ('lamp')"
        as "$bin/pg_ctl" -D "$1" -w stop
    "#;
    let made = Command::new("bash").args(["-c", old, "old"]).arg(&place).output().unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let url = cluster.start(true);
    assert_eq!(row(&url), "lamp");
    query(&url, "insert into kept (word) values ('lens'); alter table kept add column more text");
    assert_eq!(query(&url, "select rolsuper from pg_roles where rolname = user"), "f");
    assert_eq!(cluster.start(true), url);
}
