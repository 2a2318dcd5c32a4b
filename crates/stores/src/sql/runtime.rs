//! The threads that all connections to servers share.

use std::sync::{Arc, OnceLock};

use tokio::runtime::Runtime;

static RUNTIME: OnceLock<Arc<Runtime>> = OnceLock::new();

/// The runtime: one thread is enough to keep the wires full.
pub fn runtime() -> Result<Arc<Runtime>, String> {
    if let Some(runtime) = RUNTIME.get() {
        return Ok(runtime.clone());
    }
    let made = tokio::runtime::Builder::new_multi_thread()
        .worker_threads(1)
        .enable_all()
        .build()
        .map_err(|error| error.to_string())?;
    Ok(RUNTIME.get_or_init(|| Arc::new(made)).clone())
}
