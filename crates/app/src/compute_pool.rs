//! Work that takes a processor for a while, such as a search of a large catalogue: a few pieces
//! at a time, beside the threads that answer everything else, and one for each who asks
//! (SOAP-18).

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use mostra_core::ids::DeviceId;
use mostra_core::stop::Stop;
use tokio::sync::Semaphore;
use tokio::time::timeout;

/// How long somebody waits for an answer before they are told that there is none (SOAP-17).
pub const DEADLINE: Duration = Duration::from_secs(20);

/// Pieces of work at a time: more would only wait for processors.
const AT_ONCE: usize = 4;

/// For whom work is done: each has one place, however much they ask for.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum WorkOwner {
    /// A device, by number.
    Device(DeviceId),
    /// Somebody signed in at the console.
    Account(String),
}

/// Does such work.
pub struct ComputePool {
    places: Arc<Semaphore>,
    own: Mutex<HashMap<WorkOwner, Arc<Semaphore>>>,
}

impl Default for ComputePool {
    fn default() -> Self {
        ComputePool { places: Arc::new(Semaphore::new(AT_ONCE)), own: Mutex::default() }
    }
}

impl ComputePool {
    /// Does a piece of work; `None` if it is not done by the deadline, and then it is told to
    /// stop. It keeps its place until it has.
    pub async fn run<T: Send + 'static>(
        &self,
        who: WorkOwner,
        deadline: Duration,
        work: impl FnOnce(&Stop) -> T + Send + 'static,
    ) -> Option<T> {
        let own = {
            let mut all = self.own.lock().unwrap_or_else(PoisonError::into_inner);
            // Those for whom nothing is done have no clones.
            all.retain(|_, place| Arc::strong_count(place) > 1);
            all.entry(who).or_insert_with(|| Arc::new(Semaphore::new(1))).clone()
        };
        let stop = Stop::default();
        let (places, its) = (self.places.clone(), stop.clone());
        let done = async move {
            let own = own.acquire_owned().await.ok()?;
            let place = places.acquire_owned().await.ok()?;
            let work = move || {
                let outcome = work(&its);
                drop((own, place));
                outcome
            };
            tokio::task::spawn_blocking(work).await.ok()
        };
        // Whoever asked may also just go away.
        let stopping = StopWhenDropped(stop);
        let outcome = timeout(deadline, done).await.ok().flatten();
        drop(stopping);
        outcome
    }
}

struct StopWhenDropped(Stop);

impl Drop for StopWhenDropped {
    fn drop(&mut self) {
        self.0.set();
    }
}

#[cfg(test)]
mod tests {
    use std::time::Instant;

    use super::*;

    /// Work that goes on until it is told to stop.
    fn endless(stop: &Stop) {
        while !stop.is_set() {
            std::thread::sleep(Duration::from_millis(1));
        }
    }

    #[tokio::test]
    async fn what_is_not_done_by_the_deadline_is_told_and_stops() {
        let pool = ComputePool::default();
        let soon = Duration::from_millis(20);
        assert_eq!(pool.run(WorkOwner::Device(DeviceId(1)), DEADLINE, |_| 7).await, Some(7));
        for device in 0..2 * AT_ONCE as u32 {
            let outcome = pool.run(WorkOwner::Device(DeviceId(device)), soon, endless).await;
            assert_eq!(outcome, None, "it takes too long");
        }
        // Had it gone on, there would be no place.
        assert_eq!(pool.run(WorkOwner::Device(DeviceId(99)), DEADLINE, |_| 7).await, Some(7));
        assert!(pool.own.lock().unwrap().len() <= 2, "nothing is kept of those who are done");
    }

    #[tokio::test]
    async fn one_who_asks_for_much_leaves_the_places_to_others() {
        let pool = Arc::new(ComputePool::default());
        let long = Duration::from_millis(500);
        let greedy: Vec<_> = (0..20)
            .map(|_| {
                let pool = pool.clone();
                tokio::spawn(async move {
                    pool.run(WorkOwner::Device(DeviceId(1)), long, endless).await
                })
            })
            .collect();
        tokio::time::sleep(Duration::from_millis(50)).await;
        let began = Instant::now();
        for device in 2..20 {
            assert_eq!(
                pool.run(WorkOwner::Device(DeviceId(device)), DEADLINE, |_| 7).await,
                Some(7)
            );
        }
        let account = WorkOwner::Account("house".into());
        assert_eq!(pool.run(account, DEADLINE, |_| 7).await, Some(7));
        assert!(began.elapsed() < Duration::from_millis(300), "{:?}", began.elapsed());
        for one in greedy {
            assert_eq!(one.await.unwrap(), None);
        }
    }
}
