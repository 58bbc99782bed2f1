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
/// What is read, made and written beside that, of very many tests for hundreds of milliseconds at a time: neither links nor calls wait for it.
const BESIDE: usize = 2;

/// They end with what runs on them.
pub(crate) struct Threads {
    runtimes: Vec<Runtime>,
    floor: Handle,
    beside: Handle,
}

impl Threads {
    pub fn start() -> std::io::Result<Self> {
        let of = |name: &str, threads| {
            Builder::new_multi_thread().worker_threads(threads).thread_name(name).enable_all().build()
        };
        let (floor, beside) = (of("floor", THREADS)?, of("beside", BESIDE)?);
        Ok(Self { floor: floor.handle().clone(), beside: beside.handle().clone(), runtimes: vec![floor, beside] })
    }

    /// Where that goes on which the floor has done beside its own work.
    pub fn beside(&self) -> Handle {
        self.beside.clone()
    }

    /// Carries out the floor's work. Where that dies, so does what is returned; where what is returned is aborted, the work ends.
    pub fn run(self, work: impl Future<Output = ()> + Send + 'static) -> JoinHandle<()> {
        let working = self.floor.spawn(work);
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
        self.runtimes.drain(..).for_each(Runtime::shutdown_background);
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
    async fn what_goes_on_beside_holds_up_neither_the_floor_nor_the_caller() {
        let threads = Threads::start().expect("threads");
        let ends: Vec<std::sync::mpsc::Sender<()>> = (0..BESIDE)
            .map(|_| {
                let (end, ended) = std::sync::mpsc::channel();
                threads.beside().spawn(async move { ended.recv().is_err() });
                end
            })
            .collect();
        let (told, hears) = oneshot::channel();
        let work = threads.run(async move { assert!(told.send("done").is_ok()) });
        assert_eq!(timeout(SOON, hears).await.expect("it ran"), Ok("done"));
        timeout(SOON, work).await.expect("it ends").expect("well");
        drop(ends);
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
