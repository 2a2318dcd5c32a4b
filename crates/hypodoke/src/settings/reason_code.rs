//! Reason codes that users name, in the configuration and in options.

use hypodoke_engine::decide::{REASON_CODES, REASON_GROUPS, is_reason_code};

use super::reader::suggest;
use crate::failure::Failure;

/// Refuses what is neither a reason code nor a group of them; `wrong` makes the complaint.
pub fn check_reason_code(code: &str, wrong: impl FnOnce(String) -> Failure) -> Result<(), Failure> {
    if is_reason_code(code) {
        return Ok(());
    }
    let known: Vec<&str> = REASON_GROUPS.iter().chain(&REASON_CODES).copied().collect();
    let what = format!("`{code}` is not a reason code; `hypodoke ledger --json` shows those of each file");
    Err(suggest(wrong(what), code, &known))
}
