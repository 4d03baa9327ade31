//! What went wrong with the embedded daybook.

use std::time::Duration;

use rusqlite::ErrorCode;

use super::DaybookError;

/// How long one question may take.
pub(super) const LIMIT: Duration = Duration::from_secs(30);

/// What an error of SQLite means for whoever uses the daybook.
pub(super) fn failed(error: rusqlite::Error) -> DaybookError {
    match error.sqlite_error_code() {
        Some(ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase) => {
            DaybookError::Damaged(error.to_string())
        }
        Some(ErrorCode::DiskFull) => DaybookError::Failed("the disk is full".to_owned()),
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
            DaybookError::Failed("others were writing for too long".to_owned())
        }
        Some(ErrorCode::OperationInterrupted) => {
            DaybookError::Failed(format!("it did not answer within {} s", LIMIT.as_secs()))
        }
        Some(ErrorCode::ReadOnly) => DaybookError::Unfinished,
        _ => DaybookError::Failed(error.to_string()),
    }
}
