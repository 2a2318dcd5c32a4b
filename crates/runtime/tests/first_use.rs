//! The first use, from many tasks at once: it is the first in this process, so it is a test by itself.

use std::sync::Barrier;

use hypodoke_runtime::runtime;

const MANY: usize = 16;

#[test]
fn many_tasks_at_once_make_one_runtime() {
    let start = Barrier::new(MANY);
    let wait = || {
        let own = tokio::runtime::Builder::new_current_thread().build().expect("a runtime");
        own.block_on(async {
            start.wait();
            let threads = runtime().expect("threads");
            (std::ptr::from_ref(threads) as usize, threads.block_on(async { 7 }))
        })
    };
    let found: Vec<(usize, i32)> = std::thread::scope(|scope| {
        let tasks: Vec<_> = (0..MANY).map(|_| scope.spawn(wait)).collect();
        tasks.into_iter().map(|task| task.join().expect("no panic")).collect()
    });
    assert!(found.iter().all(|one| *one == (found[0].0, 7)), "{found:?}");
}
