//! Drives mounted below a published folder: unmounted they are away, and not deleted.

use std::fs;
use std::path::Path;
use std::process::Command;

use mostra_tests::browser::Browser;
use mostra_tests::{House, PASSWORD, in_a_house, media, until};
use nix::mount::{MntFlags, MsFlags, mount, umount2};
use nix::sched::{CloneFlags, unshare};

/// A mount namespace of the test's own, which what it starts has as well.
fn private_mounts() {
    unshare(CloneFlags::CLONE_NEWNS).unwrap();
    let none: Option<&str> = None;
    mount(none, "/", none, MsFlags::MS_REC | MsFlags::MS_PRIVATE, none).unwrap();
}

/// Mounts a directory at another place, as a drive with what is in it.
fn plug_in(drive: &Path, at: &Path) {
    let none: Option<&str> = None;
    mount(Some(drive), at, none, MsFlags::MS_BIND, none).unwrap();
}

fn unplug(at: &Path) {
    umount2(at, MntFlags::MNT_DETACH).unwrap();
}

fn await_titles(house: &House, expected: &[&str]) {
    until(30, &format!("{expected:?}"), || {
        house.items().into_keys().eq(expected.iter().map(ToString::to_string)).then_some(())
    });
}

fn left_out(house: &House) -> String {
    house.mostra(&["folder", "show", "Sandbox"])
}

#[test]
fn a_drive_below_a_folder_is_away_when_unmounted_and_keeps_its_ids() {
    in_a_house(|house| {
        private_mounts();
        let all = tempfile::tempdir().unwrap();
        let (root, red, blue) =
            (all.path().join("root"), all.path().join("red"), all.path().join("blue"));
        let point = root.join("shelf/disk2");
        for directory in [&point, &red.join("deep"), &blue] {
            fs::create_dir_all(directory).unwrap();
        }
        fs::copy(media("Sound/Night log.mp3"), root.join("log.mp3")).unwrap();
        fs::copy(media("Pictures/Storm/Storm 1.jpg"), red.join("one.jpg")).unwrap();
        fs::copy(media("Pictures/Storm/Storm 2.jpg"), red.join("deep/two.jpg")).unwrap();
        fs::copy(media("Pictures/Tides/Neap tide.jpg"), blue.join("neap.jpg")).unwrap();
        let mut service = house.begin();
        plug_in(&red, &point);
        house.mostra(&["folder", "add", root.to_str().unwrap(), "--label", "Sandbox"]);
        await_titles(&house, &["Night log", "one", "two"]);
        let before = house.items();

        // Unplugged, with something lying where it was mounted.
        unplug(&point);
        fs::write(point.join("NOT_MOUNTED"), b"").unwrap();
        fs::copy(media("Pictures/Tides/Spring tide.jpg"), point.join("under.jpg")).unwrap();
        await_titles(&house, &["Night log"]);
        until(10, "the reason", || {
            let said = left_out(&house);
            (said.contains("shelf/disk2") && said.contains("another drive")).then_some(())
        });
        house.mostra(&["folder", "rescan", "Sandbox"]);
        await_titles(&house, &["Night log"]);
        plug_in(&red, &point);
        await_titles(&house, &["Night log", "one", "two"]);
        assert_eq!(house.items(), before, "the same objects");

        // Not mounted yet when the service starts; its directory may be gone altogether.
        service.stop();
        unplug(&point);
        fs::remove_dir_all(root.join("shelf")).unwrap();
        service = house.start();
        await_titles(&house, &["Night log"]);
        house.mostra(&["folder", "rescan", "Sandbox"]);
        fs::create_dir_all(&point).unwrap();
        plug_in(&red, &point);
        await_titles(&house, &["Night log", "one", "two"]);
        assert_eq!(house.items(), before);

        // Another drive in its place is another one, until a person says that it is meant.
        unplug(&point);
        plug_in(&blue, &point);
        await_titles(&house, &["Night log"]);
        unplug(&point);
        plug_in(&red, &point);
        await_titles(&house, &["Night log", "one", "two"]);
        assert_eq!(house.items(), before);
        unplug(&point);
        plug_in(&blue, &point);
        await_titles(&house, &["Night log"]);
        house.mostra(&["folder", "rescan", "Sandbox", "--as-it-is"]);
        await_titles(&house, &["Night log", "neap"]);
        unplug(&point);
        await_titles(&house, &["Night log"]);
        house.mostra(&["folder", "rescan", "Sandbox", "--as-it-is"]);
        fs::copy(media("Pictures/Tides/Spring tide.jpg"), point.join("under.jpg")).unwrap();
        await_titles(&house, &["Night log", "under"]);
        drop(service);
    });
}

#[test]
fn a_folder_whose_own_drive_is_not_mounted_is_away_though_something_lies_there() {
    in_a_house(|house| {
        private_mounts();
        let all = tempfile::tempdir().unwrap();
        let (root, red) = (all.path().join("root"), all.path().join("red"));
        fs::create_dir_all(&root).unwrap();
        fs::create_dir_all(&red).unwrap();
        fs::copy(media("Pictures/Storm/Storm 1.jpg"), red.join("one.jpg")).unwrap();
        fs::write(root.join("NOT_MOUNTED"), b"").unwrap();
        fs::copy(media("Sound/Night log.mp3"), root.join("log.mp3")).unwrap();
        let mut service = house.begin();
        plug_in(&red, &root);
        house.mostra(&["folder", "add", root.to_str().unwrap(), "--label", "Sandbox"]);
        await_titles(&house, &["one"]);
        let before = house.items();
        unplug(&root);
        await_titles(&house, &[]);
        let away = || house.json(&["folder", "list"])[0]["away_ms"].is_u64();
        until(30, "the folder to be away", || away().then_some(()));
        // The same after a restart without it.
        service.stop();
        let _service = house.start();
        until(30, "the folder to be away", || away().then_some(()));
        // It is noted as away before its items are hidden.
        await_titles(&house, &[]);
        plug_in(&red, &root);
        await_titles(&house, &["one"]);
        assert_eq!(house.items(), before);
        unplug(&root);
        until(30, "the folder to be away", || away().then_some(()));
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let browser = Browser::open().await;
            browser.size(1280, 800).await;
            browser.go("/folders").await;
            browser.sign_in(PASSWORD).await;
            browser.sees("the drive or share is not there").await;
            browser.press("Take the drives as they are").await;
            browser.press("Yes, scan them").await;
            browser.close().await;
        });
        await_titles(&house, &["Night log"]);
    });
}

/// A disk of a few megabytes, as a file with a file system.
fn disk(place: &Path, title: &str) -> std::path::PathBuf {
    let file = place.join(format!("{title}.disk"));
    fs::File::create(&file).unwrap().set_len(16 << 20).unwrap();
    let made = Command::new("mkfs.ext4").args(["-q", "-F"]).arg(&file).status().unwrap();
    assert!(made.success());
    let point = place.join("made");
    fs::create_dir_all(&point).unwrap();
    let device = attach(&file, None);
    mount_device(&device, &point);
    fs::copy(media("Sound/Night log.mp3"), point.join(format!("{title}.mp3"))).unwrap();
    umount2(&point, MntFlags::empty()).unwrap();
    detach(&device);
    file
}

/// Plugs a disk in as a device: as this one, or as any that is free.
fn attach(file: &Path, device: Option<&str>) -> String {
    let mut command = Command::new("losetup");
    match device {
        Some(device) => command.args([device]).arg(file),
        None => command.args(["--find", "--show"]).arg(file),
    };
    let output = command.output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    device.map_or_else(|| String::from_utf8_lossy(&output.stdout).trim().to_owned(), str::to_owned)
}

fn detach(device: &str) {
    assert!(Command::new("losetup").args(["--detach", device]).status().unwrap().success());
}

fn mount_device(device: &str, point: &Path) {
    let none: Option<&str> = None;
    mount(Some(device), point, Some("ext4"), MsFlags::empty(), none).unwrap();
}

/// N8: the system lists no lasting names of disks, as in the package.
#[test]
fn a_disk_is_known_by_its_own_name_whatever_its_device_is_called() {
    in_a_house(|house| {
        private_mounts();
        let all = tempfile::tempdir().unwrap();
        let (one, other) = (disk(all.path(), "Lamp"), disk(all.path(), "Rope"));
        let point = all.path().join("usb");
        fs::create_dir_all(&point).unwrap();
        let _service = house.begin();
        let device = attach(&one, None);
        mount_device(&device, &point);
        house.mostra(&["folder", "add", point.to_str().unwrap(), "--label", "Disk"]);
        let count = |wanted: u64| (house.json(&["status"])["items"] == wanted).then_some(());
        until(30, "the piece", || count(1));
        let ids = || house.json(&["catalogue", "list", "music-all"])["objects"][0]["id"].clone();
        let before = ids();
        let unplug = |device: &str| {
            until(10, "the disk to be free", || umount2(&point, MntFlags::empty()).ok());
            detach(device);
        };
        unplug(&device);
        until(20, "it to be away", || count(0));
        // Another disk gets the name of its device: it is not that one.
        let same = attach(&other, Some(&device));
        mount_device(&same, &point);
        let said = house.mostra_fails(&["folder", "rescan", "Disk"]);
        assert!(said.contains("another drive than before"), "{said}");
        count(0).expect("what is on the other disk is not taken for it");
        unplug(&same);
        // It comes back under another name: it is the same disk.
        let taken = attach(&other, Some(&device));
        let again = attach(&one, None);
        assert_ne!(again, device);
        mount_device(&again, &point);
        until(20, "it to be back", || count(1));
        assert_eq!(ids(), before);
        unplug(&again);
        detach(&taken);
    });
}
