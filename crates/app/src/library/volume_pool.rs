//! All access to media files goes through the pool of the volume that they are on, a drive or a
//! network share, with a deadline: one that hangs costs those who ask for it an answer, and nobody else
//! anything.

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use mostra_media::mounts::Mounts;
use tokio::sync::{Semaphore, watch};
use tokio::task::JoinHandle;
use tokio::time::timeout_at;

/// What is asked of a volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Work {
    /// To open or read what a device or person waits for.
    Request,
    /// To read all that a picture is made of, which may be a piece of a film.
    Picture,
    /// Whether a folder is there.
    Folder,
    /// Whether a part of a folder is there again that was away.
    Part,
    /// Whether what a link leads to is there.
    Link,
    /// Whether a volume still answers that left a scan without any.
    Scan,
}

impl Work {
    /// How long the answer may take: a drive that wakes up takes a moment.
    pub const fn deadline(self) -> Duration {
        Duration::from_secs(match self {
            Work::Request => 8,
            Work::Picture => 40,
            Work::Folder | Work::Scan => 4,
            Work::Part => 1,
            Work::Link => 2,
        })
    }
}

/// Threads that one drive may hold.
const THREADS: usize = 32;
/// Requests that a drive may leave without an answer before the next are refused at once.
const UNANSWERED: usize = 4;
/// Places that a drive may leave without an answer before no thread is spent on another.
const UNANSWERED_LOOKS: usize = 8;
/// How long the kernel's list of mounts is trusted.
const LIST_AGE: Duration = Duration::from_secs(2);

/// What was found at a place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Presence {
    /// The place with all links followed.
    pub real: PathBuf,
    /// Whether it is a directory, which could be listed.
    pub is_directory: bool,
    /// Whether that directory is empty.
    pub is_empty: bool,
}

impl Presence {
    fn of(place: &Path) -> io::Result<Presence> {
        let is_directory = std::fs::metadata(place)?.is_dir();
        let is_empty = is_directory && std::fs::read_dir(place)?.next().is_none();
        Ok(Presence { real: std::fs::canonicalize(place)?, is_directory, is_empty })
    }
}

/// What a look at a place found, once it ended.
type Look = watch::Receiver<Option<Result<Presence, Arc<io::Error>>>>;

/// Looks at a drive that are under way, by place, and whether somebody waited for one in vain.
type Looks = Mutex<HashMap<PathBuf, (Look, bool)>>;

/// The threads for one drive or network share.
#[derive(Debug)]
pub struct VolumePool {
    threads: Arc<Semaphore>,
    unanswered: Arc<AtomicUsize>,
    /// Looks that are under way, by place.
    looks: Arc<Looks>,
    /// Who makes pictures of what is on this drive: one that hangs must leave some to others.
    pub makers: Arc<Semaphore>,
}

impl VolumePool {
    fn new() -> VolumePool {
        VolumePool {
            threads: Arc::new(Semaphore::new(THREADS)),
            unanswered: Arc::default(),
            looks: Arc::default(),
            makers: Arc::new(Semaphore::new(2)),
        }
    }

    /// Whether it stopped to answer.
    fn is_silent(&self) -> bool {
        self.unanswered.load(Ordering::SeqCst) >= UNANSWERED
    }

    /// Does something with files on this drive that somebody waits for, on a thread that may block.
    ///
    /// # Errors
    /// Those of `work`; `TimedOut` when the drive did not answer in time.
    pub async fn run<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> io::Result<T> + Send + 'static,
    ) -> io::Result<T> {
        self.run_within(Work::Request.deadline(), work).await
    }

    async fn run_within<T: Send + 'static>(
        &self,
        time: Duration,
        work: impl FnOnce() -> io::Result<T> + Send + 'static,
    ) -> io::Result<T> {
        if self.is_silent() {
            return Err(no_answer());
        }
        let deadline = tokio::time::Instant::now() + time;
        let turn = self.threads.clone().acquire_owned();
        let turn = timeout_at(deadline, turn).await.map_err(|_| no_answer())?;
        let turn = turn.map_err(io::Error::other)?;
        let mut task: JoinHandle<io::Result<T>> = tokio::task::spawn_blocking(move || {
            let outcome = work();
            drop(turn);
            outcome
        });
        match timeout_at(deadline, &mut task).await {
            Ok(done) => done.map_err(io::Error::other)?,
            Err(_) => {
                self.unanswered.fetch_add(1, Ordering::SeqCst);
                let unanswered = self.unanswered.clone();
                // It may answer one day.
                tokio::spawn(async move {
                    let _ = task.await;
                    unanswered.fetch_sub(1, Ordering::SeqCst);
                });
                Err(no_answer())
            }
        }
    }

    /// Looks what is at a place on this drive. However many ask, there is one look at a place at
    /// a time, on a thread of its own, so that one that hangs holds one thread.
    ///
    /// # Errors
    /// Those of looking; `TimedOut` when the drive did not answer in time.
    pub async fn presence(&self, place: &Path, work: Work) -> Result<Presence, Arc<io::Error>> {
        let looks = self.looks.clone();
        let look = move |place: &Path| Presence::of(place);
        presence(&looks, place, work.deadline(), look).await
    }
}

fn no_answer() -> io::Error {
    io::Error::new(io::ErrorKind::TimedOut, "the drive does not answer")
}

async fn presence(
    looks: &Arc<Looks>,
    place: &Path,
    time: Duration,
    look: impl Fn(&Path) -> io::Result<Presence> + Clone + Send + 'static,
) -> Result<Presence, Arc<io::Error>> {
    let deadline = tokio::time::Instant::now() + time;
    let mut before = true;
    loop {
        let Some((ours, mut under_way)) = join_or_begin(looks, place, look.clone()) else {
            return Err(Arc::new(no_answer()));
        };
        let Ok(found) = timeout_at(deadline, under_way.wait_for(Option::is_some)).await else {
            let mut all = looks.lock().unwrap_or_else(PoisonError::into_inner);
            all.entry(place.to_owned()).and_modify(|(_, in_vain)| *in_vain = true);
            return Err(Arc::new(no_answer()));
        };
        match found.ok().and_then(|found| found.clone()) {
            // One that began before we asked may have seen what was there before.
            Some(_) if !ours && before => before = false,
            Some(found) => return found,
            None => return Err(Arc::new(io::Error::other("the look at it broke off"))),
        }
    }
}

/// The look at a place that is under way, or one that is begun; and whether it is the latter. `None`
/// for one more place of a drive that leaves many without an answer.
fn join_or_begin(
    looks: &Arc<Looks>,
    place: &Path,
    look: impl Fn(&Path) -> io::Result<Presence> + Send + 'static,
) -> Option<(bool, Look)> {
    let mut under_way = looks.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some((look, _)) = under_way.get(place) {
        return Some((false, look.clone()));
    }
    if under_way.values().filter(|(_, in_vain)| *in_vain).count() >= UNANSWERED_LOOKS {
        return None;
    }
    let (sender, receiver) = watch::channel(None);
    let (all, of) = (looks.clone(), place.to_owned());
    let thread = std::thread::Builder::new().spawn(move || {
        let found = look(&of).map_err(Arc::new);
        all.lock().unwrap_or_else(PoisonError::into_inner).remove(&of);
        sender.send_replace(Some(found));
    });
    if thread.is_ok() {
        under_way.insert(place.to_owned(), (receiver.clone(), false));
    }
    Some((true, receiver))
}

/// The pools of all volumes.
#[derive(Debug, Default)]
pub struct VolumePools(Mutex<KnownVolume>);

#[derive(Debug, Default)]
struct KnownVolume {
    mounts: Option<(Instant, Mounts)>,
    pools: HashMap<PathBuf, Arc<VolumePool>>,
}

impl VolumePools {
    /// The pool of the volume that a path is on, told by the path alone.
    pub fn of(&self, path: &Path) -> Arc<VolumePool> {
        self.pool(path, LIST_AGE)
    }

    fn pool(&self, path: &Path, age: Duration) -> Arc<VolumePool> {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if known.mounts.as_ref().is_none_or(|(read, _)| read.elapsed() > age) {
            known.mounts = Some((Instant::now(), Mounts::read()));
        }
        let mount = known.mounts.as_ref().map(|(_, mounts)| mounts.of(path)).unwrap_or_default();
        known.pools.entry(mount).or_insert_with(|| Arc::new(VolumePool::new())).clone()
    }

    /// Looks what is at a place, as the pool of its volume does.
    ///
    /// # Errors
    /// As [`VolumePool::presence`].
    pub async fn presence(&self, place: &Path, work: Work) -> Result<Presence, Arc<io::Error>> {
        self.presence_behind(place, place, work).await
    }

    /// The same for a place that leads by a link to `behind`, on whose volume it is.
    ///
    /// # Errors
    /// As [`VolumePool::presence`].
    pub async fn presence_behind(
        &self,
        place: &Path,
        behind: &Path,
        work: Work,
    ) -> Result<Presence, Arc<io::Error>> {
        // What was mounted just now is not to be laid to the drive below it.
        self.pool(behind, Duration::ZERO).presence(place, work).await
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::mpsc;

    #[tokio::test]
    async fn a_drive_that_hangs_holds_few_threads_and_answers_again_later() {
        let pool = Arc::new(VolumePool::new());
        let (release, wait) = mpsc::channel::<()>();
        let wait = Arc::new(Mutex::new(wait));
        for _ in 0..UNANSWERED {
            let wait = wait.clone();
            let hang = pool.run_within(Duration::from_millis(20), move || {
                let _ = wait.lock().map(|wait| wait.recv());
                Ok(())
            });
            assert_eq!(hang.await.unwrap_err().kind(), io::ErrorKind::TimedOut);
        }
        let refused = pool.run(|| -> io::Result<()> { panic!("no thread is spent on it") }).await;
        assert_eq!(refused.unwrap_err().kind(), io::ErrorKind::TimedOut);
        assert!(VolumePool::new().run(|| Ok(1)).await.is_ok(), "another drive does not notice");
        drop(release);
        while pool.is_silent() {
            tokio::task::yield_now().await;
            tokio::time::sleep(Duration::from_millis(1)).await;
        }
        assert_eq!(pool.run(|| Ok(7)).await.unwrap(), 7);
    }

    #[tokio::test]
    async fn one_thread_looks_at_a_place_however_many_ask() {
        let looks = Arc::default();
        let (begun, (release, wait)) = (Arc::new(AtomicUsize::new(0)), mpsc::channel::<()>());
        let wait = Arc::new(Mutex::new(wait));
        let look = {
            let begun = begun.clone();
            move |place: &Path| {
                begun.fetch_add(1, Ordering::SeqCst);
                let _ = wait.lock().map(|wait| wait.recv());
                Ok(Presence { real: place.to_owned(), is_directory: true, is_empty: false })
            }
        };
        let ask = |time| presence(&looks, Path::new("/share"), time, look.clone());
        for _ in 0..3 {
            let silent = ask(Duration::from_millis(10)).await;
            assert_eq!(silent.unwrap_err().kind(), io::ErrorKind::TimedOut);
        }
        assert_eq!(begun.load(Ordering::SeqCst), 1);
        // Both ask after that look began: it may have seen what was before, so one more is made.
        let (one, other) = (ask(Duration::from_secs(60)), ask(Duration::from_secs(60)));
        drop(release);
        let (one, other) = tokio::join!(one, other);
        assert_eq!(one.unwrap().real, Path::new("/share"));
        assert!(other.is_ok());
        assert!(begun.load(Ordering::SeqCst) >= 2);
        assert!(looks.lock().unwrap().is_empty());
    }

    #[tokio::test]
    async fn a_drive_that_hangs_holds_few_threads_for_looks_however_many_places_there_are() {
        let (looks, begun) = (Arc::default(), Arc::new(AtomicUsize::new(0)));
        let (release, wait) = mpsc::channel::<()>();
        let wait = Arc::new(Mutex::new(wait));
        let look = {
            let begun = begun.clone();
            move |_: &Path| {
                begun.fetch_add(1, Ordering::SeqCst);
                let _ = wait.lock().map(|wait| wait.recv());
                Err(io::ErrorKind::NotFound.into())
            }
        };
        for n in 0..50 {
            let place = format!("/share/{n}");
            let time = Duration::from_millis(5);
            let silent = presence(&looks, Path::new(&place), time, look.clone()).await;
            assert_eq!(silent.unwrap_err().kind(), io::ErrorKind::TimedOut);
        }
        assert_eq!(looks.lock().unwrap().len(), UNANSWERED_LOOKS);
        drop(release);
        let place = Path::new("/share/0");
        let found = presence(&looks, place, Duration::from_secs(60), look.clone()).await;
        assert_eq!(found.unwrap_err().kind(), io::ErrorKind::NotFound);
        assert!(begun.load(Ordering::SeqCst) <= UNANSWERED_LOOKS + 1);
    }

    #[tokio::test]
    async fn what_is_found_at_a_place() {
        let pools = VolumePools::default();
        let home = tempfile::tempdir().unwrap();
        let at = async |name: &str| pools.presence(&home.path().join(name), Work::Folder).await;
        std::fs::create_dir(home.path().join("empty")).unwrap();
        std::os::unix::fs::symlink("empty", home.path().join("link")).unwrap();
        std::fs::write(home.path().join("file"), "").unwrap();
        let empty = at("empty").await.unwrap();
        assert!(empty.is_directory && empty.is_empty);
        assert_eq!(at("link").await.unwrap(), empty);
        assert!(!at("file").await.unwrap().is_directory);
        assert!(!at("").await.unwrap().is_empty);
        assert_eq!(at("none").await.unwrap_err().kind(), io::ErrorKind::NotFound);
    }
}
