//! Tasks that live as long as the service. One that ends by itself is told and started anew; where that
//! happens too often, the service starts again, but never while the records are away: it would not
//! come back.

use std::future::Future;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use mostra_app::Context;
use mostra_core::Moment;
use mostra_core::endings::Endings;
use tokio::sync::Notify;
use tokio::task::JoinHandle;

/// How long is waited before one is started anew.
const PAUSE: Duration = Duration::from_millis(200);
/// How often it is looked whether the records answer.
const LOOK: Duration = Duration::from_secs(1);

/// How a task ends where all is well.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Ends {
    /// With the service.
    WithService,
    /// Once its work is done.
    Done,
}

/// All such tasks.
#[derive(Clone)]
pub(crate) struct LastingTasks {
    tell: Arc<dyn Fn(&'static str) + Send + Sync>,
    now: Arc<dyn Fn() -> Moment + Send + Sync>,
    records_answer: Arc<dyn Fn() -> bool + Send + Sync>,
    endings: Arc<Mutex<Endings>>,
    leaving: Arc<AtomicBool>,
    restart: Arc<Notify>,
}

impl LastingTasks {
    /// None yet.
    pub(crate) fn new(context: Context) -> LastingTasks {
        let (clock, records) = (context.clone(), context.clone());
        LastingTasks::with(
            Arc::new(move |part| context.note_ended(part)),
            Arc::new(move || clock.now()),
            Arc::new(move || records.records_answer()),
        )
    }

    fn with(
        tell: Arc<dyn Fn(&'static str) + Send + Sync>,
        now: Arc<dyn Fn() -> Moment + Send + Sync>,
        records_answer: Arc<dyn Fn() -> bool + Send + Sync>,
    ) -> LastingTasks {
        LastingTasks {
            tell,
            now,
            records_answer,
            endings: Arc::default(),
            leaving: Arc::default(),
            restart: Arc::default(),
        }
    }

    /// The service stops: what ends from now on is meant to.
    pub(crate) fn leave(&self) {
        self.leaving.store(true, Ordering::Relaxed);
    }

    /// Completes when the service is to start again.
    pub(crate) async fn restart_wanted(&self) {
        self.restart.notified().await;
        while !(self.records_answer)() {
            tokio::time::sleep(LOOK).await;
        }
    }

    /// Runs a task, and runs it anew where it ends though it should not.
    pub(crate) fn keep<F: Future<Output = ()> + Send + 'static>(
        &self,
        name: &'static str,
        ends: Ends,
        make: impl Fn() -> F + Send + 'static,
    ) -> JoinHandle<()> {
        let tasks = self.clone();
        tokio::spawn(async move {
            loop {
                let ended = tokio::spawn(make()).await;
                let meant = ended.is_ok() && ends == Ends::Done;
                if meant || tasks.leaving.load(Ordering::Relaxed) {
                    return;
                }
                let why = ended.err().map_or_else(|| "it returned".to_owned(), |e| e.to_string());
                tracing::error!(
                    "{name} ended by itself, a fault of this service, and starts anew: {why}"
                );
                (tasks.tell)(name);
                let now = (tasks.now)();
                let many = tasks.endings.lock().unwrap_or_else(PoisonError::into_inner).note(now);
                if many {
                    tasks.restart.notify_one();
                }
                tokio::time::sleep(PAUSE).await;
            }
        })
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::AtomicU32;

    use super::*;

    fn tasks() -> (LastingTasks, Arc<AtomicU32>) {
        let told = Arc::<AtomicU32>::default();
        let count = told.clone();
        let tell = move |_: &'static str| {
            count.fetch_add(1, Ordering::Relaxed);
        };
        let now = || mostra_core::Moment::EPOCH;
        (LastingTasks::with(Arc::new(tell), Arc::new(now), Arc::new(|| true)), told)
    }

    #[tokio::test]
    async fn one_that_panics_runs_anew_and_the_third_time_all_of_it() {
        let (tasks, told) = tasks();
        let runs = Arc::<AtomicU32>::default();
        let counted = runs.clone();
        tasks.keep("a part", Ends::WithService, move || {
            let runs = counted.clone();
            async move {
                if runs.fetch_add(1, Ordering::Relaxed) < 3 {
                    panic!("a fault");
                }
                std::future::pending().await
            }
        });
        tasks.restart_wanted().await;
        while runs.load(Ordering::Relaxed) < 4 {
            tokio::time::sleep(PAUSE).await;
        }
        assert_eq!(told.load(Ordering::Relaxed), 3);
    }

    #[tokio::test]
    async fn what_is_done_or_leaves_with_the_service_is_no_fault() {
        let (tasks, told) = tasks();
        let done = tasks.keep("loading", Ends::Done, || async {});
        done.await.unwrap();
        tasks.leave();
        let left = tasks.keep("a part", Ends::WithService, || async {});
        left.await.unwrap();
        assert_eq!(told.load(Ordering::Relaxed), 0);
    }
}
