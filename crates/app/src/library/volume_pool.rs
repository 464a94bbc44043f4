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
use tokio::sync::Semaphore;
use tokio::task::JoinHandle;

/// How long a drive may take to answer: one that wakes up takes a moment.
pub const PATIENCE: Duration = Duration::from_secs(8);
/// Threads that one drive may hold.
const THREADS: usize = 32;
/// Requests that a drive may leave without an answer before the next are refused at once.
const UNANSWERED: usize = 4;
/// How long the kernel's list of mounts is trusted.
const LIST_AGE: Duration = Duration::from_secs(2);

/// The threads for one drive or network share.
#[derive(Debug)]
pub struct VolumePool {
    threads: Arc<Semaphore>,
    unanswered: Arc<AtomicUsize>,
    /// Who makes pictures of what is on this drive: one that hangs must leave some to others.
    pub makers: Arc<Semaphore>,
}

impl VolumePool {
    fn new() -> VolumePool {
        VolumePool {
            threads: Arc::new(Semaphore::new(THREADS)),
            unanswered: Arc::default(),
            makers: Arc::new(Semaphore::new(2)),
        }
    }

    /// Whether it stopped to answer.
    fn is_silent(&self) -> bool {
        self.unanswered.load(Ordering::SeqCst) >= UNANSWERED
    }

    /// Does something with files on this drive, on a thread that may block.
    ///
    /// # Errors
    /// Those of `work`; `TimedOut` when the drive did not answer in time.
    pub async fn run<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> io::Result<T> + Send + 'static,
    ) -> io::Result<T> {
        self.run_within(PATIENCE, work).await
    }

    /// The same for work that takes its time.
    ///
    /// # Errors
    /// As [`run`](Self::run).
    pub async fn run_within<T: Send + 'static>(
        &self,
        patience: Duration,
        work: impl FnOnce() -> io::Result<T> + Send + 'static,
    ) -> io::Result<T> {
        let silent = || io::Error::new(io::ErrorKind::TimedOut, "the drive does not answer");
        if self.is_silent() {
            return Err(silent());
        }
        let deadline = tokio::time::Instant::now() + patience;
        let turn = self.threads.clone().acquire_owned();
        let turn = tokio::time::timeout_at(deadline, turn).await.map_err(|_| silent())?;
        let turn = turn.map_err(io::Error::other)?;
        let mut task: JoinHandle<io::Result<T>> = tokio::task::spawn_blocking(move || {
            let outcome = work();
            drop(turn);
            outcome
        });
        match tokio::time::timeout_at(deadline, &mut task).await {
            Ok(done) => done.map_err(io::Error::other)?,
            Err(_) => {
                self.unanswered.fetch_add(1, Ordering::SeqCst);
                let unanswered = self.unanswered.clone();
                // It may answer one day.
                tokio::spawn(async move {
                    let _ = task.await;
                    unanswered.fetch_sub(1, Ordering::SeqCst);
                });
                Err(silent())
            }
        }
    }
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
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if known.mounts.as_ref().is_none_or(|(read, _)| read.elapsed() > LIST_AGE) {
            known.mounts = Some((Instant::now(), Mounts::read()));
        }
        let mount = known.mounts.as_ref().map(|(_, mounts)| mounts.of(path)).unwrap_or_default();
        known.pools.entry(mount).or_insert_with(|| Arc::new(VolumePool::new())).clone()
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
}
