//! Recording a device's conversation with the house for a while, as a file of lines.

use std::collections::BTreeMap;
use std::fs::{self, File, OpenOptions};
use std::io::{self, BufRead as _, BufReader, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use mostra_core::Moment;
use mostra_core::device::Device;
use mostra_core::ids::DeviceId;
use mostra_protocol::model::conversation::{EDITION, Entry, Heading};

use crate::Topic;
use crate::clock::ms;

/// How long a recording goes on at most.
pub const LONGEST: Duration = Duration::from_secs(2 * 3600);
/// Recordings that go on at one time, and files kept.
const RUNNING: usize = 4;
const FILES: usize = 40;
/// Lines and bytes of one recording.
const LINES: u64 = 50_000;
const BYTES: u64 = 32 << 20;
/// Lines on their way to the file.
const QUEUE: usize = 1024;

/// Why a recording is not begun, or not read.
#[derive(Debug, thiserror::Error)]
pub enum RecordingError {
    /// One of this device goes on.
    #[error("its conversation is being recorded already")]
    Runs,
    /// So many go on.
    #[error("{RUNNING} recordings go on already")]
    TooMany,
    /// There is none of this name.
    #[error("there is no such recording")]
    Missing,
    /// The file cannot be written or read.
    #[error("{0}")]
    Io(#[from] io::Error),
}

/// A recording that is there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RecordingFile {
    /// Its name.
    pub name: String,
    /// When it was begun.
    pub from: Moment,
    /// Until when it goes on; nothing of one that ended.
    pub until: Option<Moment>,
    /// Its bytes so far.
    pub bytes: u64,
}

#[derive(Debug)]
struct RunningRecording {
    name: String,
    until: Moment,
    lines: u64,
    bytes: u64,
    /// Entries left out since the last line.
    left_out: u64,
    writer: SyncSender<Vec<u8>>,
}

/// The recordings of all devices.
#[derive(Debug)]
pub struct Recordings {
    folder: PathBuf,
    running: Mutex<BTreeMap<DeviceId, RunningRecording>>,
    count: AtomicUsize,
}

impl Recordings {
    /// Those in a folder, which is made with the first.
    pub fn new(folder: PathBuf) -> Recordings {
        Recordings { folder, running: Mutex::default(), count: AtomicUsize::new(0) }
    }

    fn running(&self) -> MutexGuard<'_, BTreeMap<DeviceId, RunningRecording>> {
        self.running.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether anything is recorded: what is asked on the way of every request.
    pub fn any(&self) -> bool {
        self.count.load(Ordering::Relaxed) > 0
    }

    /// Whether the conversation of a device is recorded now.
    pub fn runs(&self, device: DeviceId) -> bool {
        self.any() && self.running().contains_key(&device)
    }

    /// Begins one. It ends at `until`, or when it is full.
    ///
    /// # Errors
    /// [`RecordingError`] when it is not begun.
    pub fn begin(
        &self,
        device: DeviceId,
        heading: &Heading,
        until: Moment,
    ) -> Result<String, RecordingError> {
        let mut running = self.running();
        if running.contains_key(&device) {
            return Err(RecordingError::Runs);
        }
        if running.len() >= RUNNING {
            return Err(RecordingError::TooMany);
        }
        fs::create_dir_all(&self.folder)?;
        self.make_room()?;
        let name = format!("{}-{}.jsonl", device.0, heading.from_ms);
        let path = self.folder.join(&name);
        let mut file = OpenOptions::new().create_new(true).write(true).mode(0o600).open(path)?;
        let mut line = serde_json::to_vec(heading).map_err(io::Error::other)?;
        line.push(b'\n');
        file.write_all(&line)?;
        let (writer, lines) = sync_channel(QUEUE);
        std::thread::Builder::new()
            .name("recording".into())
            .spawn(move || write_lines(file, &lines))?;
        let recording = RunningRecording {
            name: name.clone(),
            until,
            lines: 1,
            bytes: line.len() as u64,
            left_out: 0,
            writer,
        };
        running.insert(device, recording);
        self.count.store(running.len(), Ordering::Relaxed);
        Ok(name)
    }

    /// Removes the oldest files where there are too many.
    fn make_room(&self) -> io::Result<()> {
        let mut files: Vec<(u64, PathBuf)> = Vec::new();
        for entry in fs::read_dir(&self.folder)? {
            let path = entry?.path();
            if let Some((_, from)) = path.file_name().and_then(|n| n.to_str()).and_then(parts) {
                files.push((from, path));
            }
        }
        files.sort();
        for (_, path) in files.iter().rev().skip(FILES - 1) {
            fs::remove_file(path)?;
        }
        Ok(())
    }

    /// Notes what was said to or by a device, if that is recorded. Never waits: what finds no room
    /// is left out and counted.
    pub fn note(&self, now: Moment, device: DeviceId, entry: impl FnOnce() -> Entry) {
        if !self.any() {
            return;
        }
        let mut running = self.running();
        let Some(recording) = running.get_mut(&device) else { return };
        if recording.until > now && recording.write(&entry()) {
            return;
        }
        running.remove(&device);
        self.count.store(running.len(), Ordering::Relaxed);
    }

    /// Ends those whose time is over.
    pub fn end_due(&self, now: Moment) -> bool {
        let mut running = self.running();
        let before = running.len();
        running.retain(|_, recording| recording.until > now);
        self.count.store(running.len(), Ordering::Relaxed);
        running.len() != before
    }

    /// Ends the one of a device; gives whether there was one.
    pub fn end(&self, device: DeviceId) -> bool {
        let mut running = self.running();
        let ended = running.remove(&device).is_some();
        self.count.store(running.len(), Ordering::Relaxed);
        ended
    }

    /// The recordings of a device, the latest first.
    pub fn of(&self, device: DeviceId) -> Vec<RecordingFile> {
        let running = self.running();
        let running = running.get(&device);
        let files = fs::read_dir(&self.folder).into_iter().flatten().flatten();
        let mut all: Vec<RecordingFile> = files
            .filter_map(|entry| {
                let name = entry.file_name().into_string().ok()?;
                let (of, from) = parts(&name)?;
                let until = running.filter(|r| r.name == name).map(|r| r.until);
                let bytes = entry.metadata().ok()?.len();
                let from = Moment::after_epoch(Duration::from_millis(from));
                (of == device).then_some(RecordingFile { name, from, until, bytes })
            })
            .collect();
        all.sort_by_key(|file| std::cmp::Reverse(file.from));
        all
    }

    /// Where a recording of a device is.
    ///
    /// # Errors
    /// [`RecordingError::Missing`] where there is none of this name.
    pub fn path(&self, device: DeviceId, name: &str) -> Result<PathBuf, RecordingError> {
        // Only names that were given here lead to a file.
        let ours = parts(name).is_some_and(|(of, _)| of == device);
        let path = self.folder.join(name);
        if ours && path.is_file() { Ok(path) } else { Err(RecordingError::Missing) }
    }

    /// Removes all recordings of a device.
    pub fn forget(&self, device: DeviceId) {
        self.end(device);
        for file in self.of(device) {
            if let Err(error) = fs::remove_file(self.folder.join(&file.name)) {
                tracing::warn!("the recording {} cannot be removed: {error}", file.name);
            }
        }
    }

    /// Removes a recording of a device; one that goes on ends.
    ///
    /// # Errors
    /// [`RecordingError`] where there is none, or it cannot be removed.
    pub fn remove(&self, device: DeviceId, name: &str) -> Result<(), RecordingError> {
        let path = self.path(device, name)?;
        let goes_on = self.running().get(&device).is_some_and(|recording| recording.name == name);
        if goes_on {
            self.end(device);
        }
        Ok(fs::remove_file(path)?)
    }
}

impl RunningRecording {
    /// Gives whether it goes on.
    fn write(&mut self, entry: &Entry) -> bool {
        if self.left_out > 0 && self.send(&Entry::Left { out: self.left_out }) {
            self.left_out = 0;
        }
        if self.left_out > 0 || !self.send(entry) {
            self.left_out += 1;
        }
        self.lines < LINES && self.bytes < BYTES
    }

    fn send(&mut self, entry: &Entry) -> bool {
        let Ok(mut line) = serde_json::to_vec(entry) else { return false };
        line.push(b'\n');
        let length = line.len() as u64;
        let sent = self.writer.try_send(line).is_ok();
        if sent {
            self.lines += 1;
            self.bytes += length;
        }
        sent
    }
}

/// Writes lines until there are no more to come.
fn write_lines(mut file: File, lines: &Receiver<Vec<u8>>) {
    while let Ok(line) = lines.recv() {
        if let Err(error) = file.write_all(&line) {
            tracing::warn!("a recording cannot be written: {error}");
            return;
        }
    }
}

/// The device and the beginning that a file's name says.
fn parts(name: &str) -> Option<(DeviceId, u64)> {
    let (device, from) = name.strip_suffix(".jsonl")?.split_once('-')?;
    let number = |text: &str| !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit());
    if !number(device) || !number(from) {
        return None;
    }
    Some((DeviceId(device.parse().ok()?), from.parse().ok()?))
}

/// Reads a recording: its heading, and at most `most` entries after the first `skip`. Lines that
/// cannot be read are passed over.
///
/// # Errors
/// [`RecordingError`] when the file cannot be read, or has no heading.
pub fn read(
    path: &Path,
    skip: usize,
    most: usize,
) -> Result<(Heading, Vec<Entry>), RecordingError> {
    let mut lines = BufReader::new(File::open(path)?).lines();
    let first = lines.next().ok_or(RecordingError::Missing)??;
    let heading: Heading = serde_json::from_str(&first).map_err(io::Error::other)?;
    let entries = lines.map_while(Result::ok).skip(skip).take(most);
    let read = entries.filter_map(|line| serde_json::from_str(&line).ok());
    Ok((heading, read.collect()))
}

impl super::Devices {
    /// Begins to record the conversation of a device with a server of this name.
    ///
    /// # Errors
    /// [`RecordingError`] when it is not begun.
    pub fn record(
        self: &Arc<Self>,
        id: DeviceId,
        server: &str,
        length: Duration,
    ) -> Result<String, RecordingError> {
        let now = self.context.now();
        let label = self.book().get(id).map(Device::label);
        let heading = Heading {
            conversation: EDITION,
            device: label.ok_or(RecordingError::Missing)?,
            server: server.to_owned(),
            from_ms: ms(now),
        };
        let length = length.min(LONGEST);
        let name = self.recordings.begin(id, &heading, now + length)?;
        self.context.changed(Topic::Devices);
        let devices = self.clone();
        tokio::spawn(async move {
            tokio::time::sleep(length).await;
            if devices.recordings.end_due(devices.context.now()) {
                devices.context.changed(Topic::Devices);
            }
        });
        Ok(name)
    }

    /// Notes what was said to or by whoever is at an address, if that is recorded.
    pub fn record_at(&self, address: std::net::Ipv4Addr, entry: impl FnOnce() -> Entry) {
        if self.recordings.any()
            && let Some(device) = self.at(address)
        {
            self.recordings.note(self.context.now(), device, entry);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use mostra_protocol::model::conversation::{Exchange, RecordedDatagram};

    fn heading(from_ms: u64) -> Heading {
        Heading { conversation: EDITION, device: "TV".into(), server: "House".into(), from_ms }
    }

    fn said(at_ms: u64) -> Entry {
        let peer = std::net::SocketAddrV4::new(std::net::Ipv4Addr::LOCALHOST, 1900);
        Entry::Heard(RecordedDatagram { at_ms, peer, text: "M-SEARCH".into() })
    }

    /// Waits until a file has so many lines.
    fn lines(path: &Path, wanted: usize) -> Vec<Entry> {
        let end = std::time::Instant::now() + Duration::from_secs(10);
        loop {
            let (_, entries) = read(path, 0, usize::MAX).unwrap();
            if entries.len() >= wanted || std::time::Instant::now() > end {
                return entries;
            }
            std::thread::yield_now();
        }
    }

    #[test]
    fn what_is_said_while_it_goes_on_is_in_the_file_and_nothing_after() {
        let folder = tempfile::tempdir().unwrap();
        let recordings = Recordings::new(folder.path().join("recordings"));
        let (one, other) = (DeviceId(1), DeviceId(2));
        let at = Moment::from_secs;
        let name = recordings.begin(one, &heading(5000), at(100)).unwrap();
        assert!(matches!(recordings.begin(one, &heading(5001), at(9)), Err(RecordingError::Runs)));
        recordings.note(at(10), one, || said(10));
        recordings.note(at(10), other, || said(11));
        recordings.note(at(20), one, || Entry::Request(Exchange::default()));
        assert_eq!(recordings.of(one)[0].until, Some(at(100)));
        recordings.note(at(100), one, || said(12));
        assert!(!recordings.any(), "its time is over");
        let path = recordings.path(one, &name).unwrap();
        assert_eq!(lines(&path, 2), [said(10), Entry::Request(Exchange::default())]);
        assert_eq!(read(&path, 1, 9).unwrap().1.len(), 1);
        assert_eq!(read(&path, 0, 9).unwrap().0, heading(5000));
        assert_eq!(recordings.of(one)[0].until, None);
        assert!(recordings.of(other).is_empty());
        // A name leads to nothing else than what was recorded of this device.
        for wrong in ["../1-5000.jsonl", "1-5001.jsonl", "x", "1-5000.jsonl/.."] {
            assert!(recordings.path(one, wrong).is_err(), "{wrong}");
        }
        assert!(recordings.path(other, &name).is_err());
        recordings.remove(one, &name).unwrap();
        assert!(recordings.of(one).is_empty());
    }

    #[test]
    fn old_files_make_room_and_a_full_one_ends() {
        let folder = tempfile::tempdir().unwrap();
        let recordings = Recordings::new(folder.path().to_owned());
        let device = DeviceId(3);
        for from in 0..60 {
            recordings.begin(device, &heading(from), Moment::from_secs(9)).unwrap();
            recordings.end(device);
        }
        let kept = recordings.of(device);
        assert_eq!(
            (kept.len(), kept[0].from),
            (FILES, Moment::after_epoch(Duration::from_millis(59)))
        );
        recordings.begin(device, &heading(99), Moment::from_secs(9)).unwrap();
        let text = "x".repeat(1 << 20);
        for _ in 0..40 {
            let long = || Entry::Request(Exchange { answer: text.clone(), ..Exchange::default() });
            recordings.note(Moment::EPOCH, device, long);
        }
        assert!(!recordings.runs(device), "it is full");
        assert!(recordings.of(device)[0].bytes <= BYTES + (2 << 20));
    }
}
