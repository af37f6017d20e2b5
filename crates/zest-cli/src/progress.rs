//! What somebody sees who waits at a terminal. It goes to the standard error, and only where that is a terminal: neither a script nor a
//! file ever finds it in its output.

use std::io::IsTerminal;
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::Duration;

use indicatif::{ProgressBar, ProgressStyle};

/// How long nothing is said: most work is done before anybody has looked up.
const PATIENCE: Duration = Duration::from_millis(500);
/// How often the terminal is told that work goes on.
const TICK: Duration = Duration::from_millis(100);

/// Does some work, and says so while it lasts.
pub(crate) fn during<T>(what: &str, work: impl FnOnce() -> T) -> T {
    if !std::io::stderr().is_terminal() {
        return work();
    }
    let (done, waiting) = channel::<()>();
    std::thread::scope(|scope| {
        scope.spawn(move || {
            if waiting.recv_timeout(PATIENCE) == Err(RecvTimeoutError::Timeout) {
                let bar = ProgressBar::new_spinner().with_message(what.to_owned());
                bar.enable_steady_tick(TICK);
                // OK because nothing is ever sent: it ends when the other side is dropped.
                let _ = waiting.recv();
                bar.finish_and_clear();
            }
        });
        let result = work();
        drop(done);
        result
    })
}

/// Makes a bar over the bytes of the standard input, with its end where that is a file. Answers that scroll over the terminal show
/// how far it is, so then there is none.
pub(crate) fn of_input() -> ProgressBar {
    if !std::io::stderr().is_terminal() || std::io::stdout().is_terminal() {
        return ProgressBar::hidden();
    }
    match length_of_input() {
        Some(length) => ProgressBar::new(length).with_style(style("{bar:32} {percent}% of {total_bytes} of questions, {eta} left")),
        None => ProgressBar::no_length().with_style(style("{spinner} {bytes} of questions answered")),
    }
}

/// Makes a bar over some steps of work.
#[cfg(feature = "live")]
pub(crate) fn of_steps(count: u64) -> ProgressBar {
    if !std::io::stderr().is_terminal() {
        return ProgressBar::hidden();
    }
    ProgressBar::new(count).with_style(style("{bar:32} {pos} of {len} tried, {eta} left"))
}

/// Returns how long the standard input is, where it is a file.
fn length_of_input() -> Option<u64> {
    #[cfg(unix)]
    {
        use std::os::fd::AsFd;
        let file = std::fs::File::from(std::io::stdin().as_fd().try_clone_to_owned().ok()?);
        file.metadata().ok().filter(std::fs::Metadata::is_file).map(|file| file.len())
    }
    #[cfg(not(unix))]
    None
}

fn style(template: &str) -> ProgressStyle {
    ProgressStyle::with_template(template).expect("the template is one of ours")
}
