//! Why a command failed, and the exit statuses.

/// The call was wrong.
pub const WRONG_CALL: u8 = 2;
/// The run could not be carried out.
pub const VOID: u8 = 10;
/// The service could not be reached, or said no.
pub const NO_SERVICE: u8 = 12;
/// The run passed, but a report that was asked for could not be written.
pub const NOT_WRITTEN: u8 = 13;

/// Why a command failed, with the exit status that says so.
#[derive(Debug)]
pub struct Failure {
    pub message: String,
    pub status: u8,
}

impl Failure {
    /// The call was wrong.
    pub fn call(message: impl Into<String>) -> Self {
        Self { message: message.into(), status: WRONG_CALL }
    }

    /// Something failed that the caller cannot mend with another call.
    pub fn trouble(message: impl Into<String>) -> Self {
        Self { message: message.into(), status: NO_SERVICE }
    }
}

impl From<kesmo_client::Error> for Failure {
    fn from(error: kesmo_client::Error) -> Self {
        let status = if error.is_callers() { WRONG_CALL } else { NO_SERVICE };
        Self { message: error.to_string(), status }
    }
}

impl From<kesmo_here::Error> for Failure {
    fn from(error: kesmo_here::Error) -> Self {
        match error {
            kesmo_here::Error::Core(e) => e.into(),
            // As a service says of a run that cannot be carried out.
            kesmo_here::Error::Void(why) => Self { message: format!("void: {why}"), status: VOID },
            other => Self::trouble(other.to_string()),
        }
    }
}

impl From<kesmo_core::Error> for Failure {
    fn from(error: kesmo_core::Error) -> Self {
        Self::call(error.to_string())
    }
}
