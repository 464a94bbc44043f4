//! A drive of our own making that can stop to answer, as a network share does whose host went.

use std::ffi::OsStr;
use std::path::Path;
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use fuser::{
    BackgroundSession, Config, Errno, FileAttr, FileHandle, FileType, Filesystem, Generation,
    INodeNo, LockOwner, MountOption, OpenFlags, ReplyAttr, ReplyData, ReplyDirectory, ReplyEntry,
    Request,
};

/// Nothing is kept by the kernel, so that it asks each time.
const KEPT: Duration = Duration::ZERO;

#[derive(Default)]
struct Gate {
    hangs: Mutex<bool>,
    changed: Condvar,
}

impl Gate {
    fn pass(&self) {
        let hangs = self.hangs.lock().unwrap_or_else(PoisonError::into_inner);
        drop(self.changed.wait_while(hangs, |hangs| *hangs));
    }

    fn set(&self, hangs: bool) {
        *self.hangs.lock().unwrap_or_else(PoisonError::into_inner) = hangs;
        self.changed.notify_all();
    }
}

struct Files {
    gate: Arc<Gate>,
    files: Vec<(String, Vec<u8>)>,
    made: SystemTime,
}

impl Files {
    fn attributes(&self, node: u64) -> Option<FileAttr> {
        let bytes = match node {
            1 => None,
            n => Some(&self.files.get(n as usize - 2)?.1),
        };
        Some(FileAttr {
            ino: INodeNo(node),
            size: bytes.map_or(0, |b| b.len() as u64),
            blocks: 1,
            atime: self.made,
            mtime: self.made,
            ctime: self.made,
            crtime: self.made,
            kind: if bytes.is_some() { FileType::RegularFile } else { FileType::Directory },
            perm: 0o755,
            nlink: 1,
            uid: 0,
            gid: 0,
            rdev: 0,
            flags: 0,
            blksize: 4096,
        })
    }
}

impl Filesystem for Files {
    fn lookup(&self, _: &Request, _: INodeNo, name: &OsStr, reply: ReplyEntry) {
        self.gate.pass();
        let at = self.files.iter().position(|(n, _)| Some(n.as_str()) == name.to_str());
        match at.and_then(|at| self.attributes(at as u64 + 2)) {
            Some(attributes) => reply.entry(&KEPT, &attributes, Generation(0)),
            None => reply.error(Errno::ENOENT),
        }
    }

    fn getattr(&self, _: &Request, node: INodeNo, _: Option<FileHandle>, reply: ReplyAttr) {
        self.gate.pass();
        match self.attributes(node.0) {
            Some(attributes) => reply.attr(&KEPT, &attributes),
            None => reply.error(Errno::ENOENT),
        }
    }

    fn read(
        &self,
        _: &Request,
        node: INodeNo,
        _: FileHandle,
        offset: u64,
        size: u32,
        _: OpenFlags,
        _: Option<LockOwner>,
        reply: ReplyData,
    ) {
        self.gate.pass();
        let bytes = node.0.checked_sub(2).and_then(|at| self.files.get(at as usize));
        let rest = bytes.and_then(|(_, b)| b.get(offset as usize..)).unwrap_or_default();
        reply.data(&rest[..rest.len().min(size as usize)]);
    }

    fn readdir(
        &self,
        _: &Request,
        _: INodeNo,
        _: FileHandle,
        offset: u64,
        mut reply: ReplyDirectory,
    ) {
        self.gate.pass();
        for (at, (name, _)) in self.files.iter().enumerate().skip(offset as usize) {
            if reply.add(INodeNo(at as u64 + 2), at as u64 + 1, FileType::RegularFile, name) {
                break;
            }
        }
        reply.ok();
    }
}

/// A mounted drive with files in it; it is unmounted in the end.
pub struct Drive {
    gate: Arc<Gate>,
    _session: BackgroundSession,
}

impl Drive {
    /// Mounts one; `None`, and said so, where the system allows no such drives.
    ///
    /// # Panics
    /// Under CI, where that is not possible.
    pub fn mount(at: &Path, files: Vec<(String, Vec<u8>)>) -> Option<Drive> {
        let gate = Arc::new(Gate::default());
        let files = Files {
            gate: gate.clone(),
            files,
            made: SystemTime::now() - Duration::from_secs(3600),
        };
        let mut config = Config::default();
        config.mount_options = vec![MountOption::RO, MountOption::FSName("drive".into())];
        config.n_threads = Some(2);
        match fuser::spawn_mount(files, at, &config) {
            Ok(session) => Some(Drive { gate, _session: session }),
            Err(error) => {
                let why = format!("no drive of its own ({error}); run it as root with /dev/fuse");
                crate::not_run(&why);
                None
            }
        }
    }

    /// Stops to answer, or begins again.
    pub fn hang(&self, hangs: bool) {
        self.gate.set(hangs);
    }
}

impl Drop for Drive {
    fn drop(&mut self) {
        // What still waits must get its answer before the drive can go.
        self.gate.set(false);
    }
}
