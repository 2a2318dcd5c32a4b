//! The threads that all connections to servers share, behind calls that block.
//!
//! Whoever calls the libraries of Hypodoke blocks until the answer is there. The calls may be made from any
//! thread, from one that runs an asynchronous task too: that thread then does nothing else meanwhile.
//!
//! ```
//! let runtime = hypodoke_runtime::runtime()?;
//! assert_eq!(runtime.block_on(async { 7 }), 7);
//! # Ok::<(), std::io::Error>(())
//! ```

use std::io;
use std::sync::{Mutex, OnceLock, PoisonError};

use tokio::runtime::{Handle, Runtime};
use tokio::task::{JoinHandle, unconstrained};

/// How many threads wait for servers: enough to keep two connections busy while others are opened.
const THREADS: usize = 2;

static RUNTIME: OnceLock<BlockingRuntime> = OnceLock::new();

static MAKING: Mutex<()> = Mutex::new(());

/// Threads on which connections are served, and which is waited for.
#[derive(Debug)]
pub struct BlockingRuntime(Runtime);

/// The runtime, made when it is first asked for. It lasts as long as the process.
///
/// # Errors
///
/// The system gives no threads.
pub fn runtime() -> Result<&'static BlockingRuntime, io::Error> {
    if let Some(runtime) = RUNTIME.get() {
        return Ok(runtime);
    }
    // One is made, and no other: a task must not drop a runtime.
    let _making = MAKING.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(runtime) = RUNTIME.get() {
        return Ok(runtime);
    }
    let made = tokio::runtime::Builder::new_multi_thread().worker_threads(THREADS).enable_all().build()?;
    Ok(RUNTIME.get_or_init(|| BlockingRuntime(made)))
}

impl BlockingRuntime {
    /// Runs a task on the threads of this runtime.
    pub fn spawn<F>(&self, task: F) -> JoinHandle<F::Output>
    where
        F: Future + Send + 'static,
        F::Output: Send,
    {
        self.0.spawn(task)
    }

    /// Runs a future to its end. Its sockets and timers are served by the threads of this runtime.
    ///
    /// On a thread that belongs to another runtime it waits without being scheduled by that one, which takes
    /// no second runtime on a thread of its own.
    pub fn block_on<F: Future>(&self, future: F) -> F::Output {
        if Handle::try_current().is_err() {
            return self.0.block_on(future);
        }
        let _entered = self.0.enter();
        // The other runtime's task has only so much to spend, which is not ours.
        pollster::block_on(unconstrained(future))
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    /// A timer, a task on the runtime, and more messages than a task of tokio's takes without a pause.
    async fn busy() -> u32 {
        tokio::time::sleep(Duration::from_millis(1)).await;
        let (sender, mut receiver) = tokio::sync::mpsc::channel(4);
        let sending = tokio::spawn(async move {
            for number in 0..1000_u32 {
                if sender.send(number).await.is_err() {
                    return 0;
                }
            }
            1000
        });
        let mut received = 0;
        while receiver.recv().await.is_some() {
            received += 1;
        }
        assert_eq!(sending.await.expect("the task ends"), received);
        received
    }

    #[test]
    fn a_thread_of_its_own_waits() {
        assert_eq!(runtime().expect("threads").block_on(busy()), 1000);
    }

    #[test]
    fn a_task_of_one_thread_waits() {
        let other = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
        let waited = other.block_on(async { runtime().expect("threads").block_on(busy()) });
        assert_eq!(waited, 1000);
    }

    #[test]
    fn tasks_of_several_threads_wait_side_by_side() {
        let other = tokio::runtime::Builder::new_multi_thread().worker_threads(2).build().expect("a runtime");
        let wait = || async { runtime().expect("threads").block_on(busy()) };
        let tasks: Vec<_> = (0..4).map(|_| other.spawn(wait())).collect();
        for task in tasks {
            assert_eq!(other.block_on(task).expect("the task ends"), 1000);
        }
    }

    #[test]
    fn a_thread_for_blocking_work_waits() {
        let other = tokio::runtime::Builder::new_current_thread().build().expect("a runtime");
        let task = other.block_on(async {
            tokio::task::spawn_blocking(|| runtime().expect("threads").block_on(busy())).await
        });
        assert_eq!(task.expect("the work ends"), 1000);
    }
}
