//! What errors of the driver and of the server mean, worded once.

use mysql_async::{Error, ServerError};

use crate::error::StoreError;

/// An error in its own words.
pub fn words(error: &Error) -> String {
    match error {
        Error::Server(error) => error.message.clone(),
        Error::Driver(error) => error.to_string(),
        Error::Io(error) => error.to_string(),
        Error::Other(error) => error.to_string(),
        Error::Url(error) => error.to_string(),
    }
}

/// Whether the server has undone the whole transaction with what failed.
pub fn ends_transaction(error: &Error) -> bool {
    // A deadlock; a conflict of a cluster is told as one.
    matches!(error, Error::Server(ServerError { code: 1213 | 1614 | 1180, .. }))
}

/// An error in our words.
pub fn fail(error: &Error, shown: &str, user: &str) -> StoreError {
    let (shown, why) = (shown.to_owned(), words(error));
    let Error::Server(ServerError { code, state, .. }) = error else {
        return StoreError::Lost { shown, why };
    };
    // MySQL Reference Manual and MariaDB Knowledge Base, "Error Codes".
    match *code {
        1044 | 1045 | 1142 | 1143 | 1227 | 1370 | 1698 | 3530 | 4166 => {
            StoreError::Denied { shown, user: user.to_owned(), why }
        }
        1290 | 1792 | 1836 => StoreError::ReadOnly { shown },
        1021 | 1114 => StoreError::Full { shown },
        1205 => StoreError::InUse { shown, why },
        // Deadlocks, locks of other kinds, too many connections, statements that were interrupted or took too
        // long, a node of a cluster that is not ready.
        1213 | 1614 | 3058 | 3572 | 1040 | 1203 | 1226 | 1317 | 1969 | 3024 | 1412 | 1615 | 1047 | 1180 => {
            StoreError::Aborted { shown, why }
        }
        1053 | 1152 | 1158..=1161 | 1184 | 1927 | 2006 | 2013 | 4031 => StoreError::Lost { shown, why },
        // Values, constraints, triggers that say no.
        1048 | 1062 | 1118 | 1153 | 1169 | 1216 | 1217 | 1264 | 1265 | 1292 | 1300 | 1364 | 1366 | 1369
        | 1406 | 1411 | 1416 | 1451 | 1452 | 1526 | 1557 | 1586 | 1644 | 1690 | 1748 | 3140 | 3144 | 3156
        | 3819 | 3988 | 4025 | 4078 => StoreError::RowRefused { shown, why },
        _ if matches!(state.get(..2), Some("22" | "23" | "45")) => StoreError::RowRefused { shown, why },
        _ => StoreError::Refused { shown, why },
    }
}
