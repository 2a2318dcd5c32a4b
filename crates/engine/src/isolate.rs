//! Isolation of one file: a panic in a reader or a library ends that file, and nothing else.

use std::any::Any;
use std::panic::{AssertUnwindSafe, catch_unwind};

use hypodoke_core::isolate::Mark;
pub use hypodoke_core::isolate::{helping, is_isolated};

use crate::decide::FailReason;

/// Does the work for one file; a panic is given as the reason why the file fails.
///
/// What the work changed stays as the panic left it: give it nothing that is used afterwards, or
/// that does not take itself back when it is dropped, as a load that was not committed does.
///
/// # Errors
///
/// The work panicked.
///
/// ```
/// use hypodoke_engine::isolate::isolated;
///
/// assert_eq!(isolated(|| 7), Ok(7));
/// ```
pub fn isolated<T>(work: impl FnOnce() -> T) -> Result<T, FailReason> {
    let _mark = Mark::set();
    catch_unwind(AssertUnwindSafe(work)).map_err(|panic| FailReason::Panicked(words(panic.as_ref())))
}

/// What a panic says.
fn words(panic: &(dyn Any + Send)) -> String {
    let text = panic.downcast_ref::<&str>().copied();
    let text = text.or_else(|| panic.downcast_ref::<String>().map(String::as_str));
    text.unwrap_or("no reason was given").to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_is_a_reason_and_what_follows_goes_on() {
        assert!(!is_isolated());
        let outcome = isolated(|| {
            assert!(is_isolated());
            let number: Result<u8, _> = "not a number".parse::<u8>();
            number.expect("a number")
        });
        assert!(matches!(&outcome, Err(FailReason::Panicked(what)) if what.starts_with("a number")));
        assert!(!is_isolated());
        assert_eq!(isolated(|| 7), Ok(7));
    }
}
