//! Work that takes a processor for a while, such as a search of a large catalogue: a few pieces
//! at a time, beside the threads that answer everything else (SOAP-18).

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::Semaphore;
use tokio::time::timeout;

/// How long somebody waits for an answer before they are told that there is none (SOAP-17).
pub const DEADLINE: Duration = Duration::from_secs(20);

/// Pieces of work at a time: more would only wait for processors.
const AT_ONCE: usize = 4;

/// Where such work is done.
pub struct Desk(Arc<Semaphore>);

impl Default for Desk {
    fn default() -> Self {
        Desk(Arc::new(Semaphore::new(AT_ONCE)))
    }
}

impl Desk {
    /// Does a piece of work; `None` if it is not done by the deadline. What has begun goes on
    /// to its end, and keeps its place until then.
    pub async fn work<T: Send + 'static>(
        &self,
        deadline: Duration,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Option<T> {
        let places = self.0.clone();
        let done = async move {
            let place = places.acquire_owned().await.ok()?;
            let work = move || {
                let outcome = work();
                drop(place);
                outcome
            };
            tokio::task::spawn_blocking(work).await.ok()
        };
        timeout(deadline, done).await.ok().flatten()
    }
}

#[cfg(test)]
mod tests {
    use std::sync::mpsc;

    use super::*;

    #[tokio::test]
    async fn what_is_not_done_by_the_deadline_is_told() {
        let desk = Desk::default();
        let soon = Duration::from_millis(20);
        assert_eq!(desk.work(DEADLINE, || 7).await, Some(7));
        // All places taken by work that ends when it is told to.
        let (ends, begun): (Vec<_>, Vec<_>) = (0..AT_ONCE).map(|_| mpsc::channel::<()>()).unzip();
        for end in begun {
            let outcome = desk.work(soon, move || end.recv().is_ok()).await;
            assert_eq!(outcome, None, "it takes too long");
        }
        assert_eq!(desk.work(soon, || 7).await, None, "there is no place");
        ends.iter().for_each(|end| end.send(()).unwrap());
        assert_eq!(desk.work(DEADLINE, || 7).await, Some(7), "and then there is again");
    }
}
