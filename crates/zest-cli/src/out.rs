//! What the program prints. It is collected, and written when there is something to wait for: before a prompt, after an
//! answer of a batch, at the end. So a place that cannot be written to is found in one place, and never by a panic.

use std::fmt;
use std::io::{ErrorKind, Write};
use std::sync::Mutex;

static WAITING: Mutex<String> = Mutex::new(String::new());

/// Adds to what is to be printed.
macro_rules! put {
    ($($arg:tt)*) => { $crate::out::add(format_args!($($arg)*)) };
}

/// Adds a line to what is to be printed.
macro_rules! say {
    () => { $crate::out::add(format_args!("\n")) };
    ($($arg:tt)*) => {{
        $crate::out::add(format_args!($($arg)*));
        $crate::out::add(format_args!("\n"));
    }};
}

/// Writes to the standard error. OK where that cannot be written to, since there is nobody to tell.
macro_rules! complain_of {
    ($($arg:tt)*) => {{
        use std::io::Write as _;
        let _ = write!(anstream::stderr(), $($arg)*);
    }};
}

/// Writes a line to the standard error.
macro_rules! complain {
    ($($arg:tt)*) => {{
        use std::io::Write as _;
        let _ = writeln!(anstream::stderr(), $($arg)*);
    }};
}

pub(crate) use {complain, complain_of, put, say};

/// The output cannot be written.
#[derive(Debug)]
pub(crate) struct NotWritten(std::io::Error);

impl NotWritten {
    /// Returns whether whoever reads has gone away: there is nothing to say to them.
    pub(crate) fn is_closed(&self) -> bool {
        self.0.kind() == ErrorKind::BrokenPipe
    }
}

impl fmt::Display for NotWritten {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "the output cannot be written: {}", self.0)
    }
}

impl std::error::Error for NotWritten {}

pub(crate) fn add(text: fmt::Arguments<'_>) {
    use fmt::Write as _;
    // OK because writing to a text cannot fail, and nothing panics while it holds the lock.
    let _ = WAITING.lock().unwrap_or_else(std::sync::PoisonError::into_inner).write_fmt(text);
}

/// Writes bytes without colours, after what was collected.
pub(crate) fn write(bytes: &[u8]) -> Result<(), NotWritten> {
    flush()?;
    let mut out = std::io::stdout().lock();
    out.write_all(bytes).and_then(|()| out.flush()).map_err(NotWritten)
}

/// Writes what was collected.
pub(crate) fn flush() -> Result<(), NotWritten> {
    let text = std::mem::take(&mut *WAITING.lock().unwrap_or_else(std::sync::PoisonError::into_inner));
    if text.is_empty() {
        return Ok(());
    }
    // Only what has colours need be looked through for them, letter by letter: answers for programs have none.
    let mut out = std::io::stdout().lock();
    let written =
        if text.contains('\u{1b}') { anstream::stdout().lock().write_all(text.as_bytes()) } else { out.write_all(text.as_bytes()) };
    written.and_then(|()| out.flush()).map_err(NotWritten)
}
