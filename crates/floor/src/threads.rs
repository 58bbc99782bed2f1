//! Threads of the floor's own.
//!
//! Whatever arrives passes through the floor, and waits for its commits. A commit is some ways to PostgreSQL and back; among a thousand
//! links' tasks on the service's threads each of them waits for its turn, while on these there is nothing but the floor and its commits.

use tokio::{
    runtime::{Builder, Handle, Runtime},
    task::JoinHandle,
};

/// One hears while the other writes.
const THREADS: usize = 2;

/// They end with what runs on them.
pub(crate) struct Threads {
    runtime: Option<Runtime>,
    handle: Handle,
}

impl Threads {
    pub fn start() -> std::io::Result<Self> {
        let runtime = Builder::new_multi_thread().worker_threads(THREADS).thread_name("floor").enable_all().build()?;
        Ok(Self { handle: runtime.handle().clone(), runtime: Some(runtime) })
    }

    /// Carries out the floor's work. Where that dies, so does what is returned; where what is returned is aborted, the work ends.
    pub fn run(self, work: impl Future<Output = ()> + Send + 'static) -> JoinHandle<()> {
        let working = self.handle.spawn(work);
        tokio::spawn(async move {
            let _ends = self;
            if let Err(died) = working.await
                && died.is_panic()
            {
                std::panic::resume_unwind(died.into_panic());
            }
        })
    }
}

impl Drop for Threads {
    fn drop(&mut self) {
        // It may end among others' tasks, where nothing may wait.
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use tokio::{sync::oneshot, time::timeout};

    use super::*;

    const SOON: Duration = Duration::from_secs(20);

    #[tokio::test]
    async fn work_goes_on_while_the_callers_own_thread_is_held_up() {
        let (told, hears) = std::sync::mpsc::channel();
        let work = Threads::start().expect("threads").run(async move {
            let _ = told.send(std::thread::current().id());
        });
        // This trial has one thread, which waits here without letting anything else go on.
        let on = hears.recv_timeout(SOON).expect("it ran");
        assert_ne!(on, std::thread::current().id());
        timeout(SOON, work).await.expect("it ends").expect("well");
    }

    #[tokio::test]
    async fn who_waits_for_work_that_died_is_told() {
        let work = Threads::start().expect("threads").run(async { panic!("the floor gave way") });
        let died = timeout(SOON, work).await.expect("it ends").expect_err("it died");
        assert!(died.is_panic());
    }

    #[tokio::test]
    async fn work_that_nobody_waits_for_any_more_ends() {
        let (alive, mut gone) = oneshot::channel::<()>();
        let work = Threads::start().expect("threads").run(async move {
            let _alive = alive;
            std::future::pending::<()>().await;
        });
        work.abort();
        let ends = async {
            while gone.try_recv() != Err(oneshot::error::TryRecvError::Closed) {
                tokio::task::yield_now().await
            }
        };
        timeout(SOON, ends).await.expect("what it held is let go of");
    }
}
