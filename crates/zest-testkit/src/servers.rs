//! Private database servers for tests.

pub use zest_servers::{Server, mariadb, mariadb_with, postgresql};

/// Starts a server, or says loudly that it is missing; with `CI=true` that is a failure.
///
/// # Panics
/// With `CI=true`, when the server cannot be had.
pub fn wanted(start: fn() -> Result<Server, String>) -> Option<Server> {
    match start() {
        Ok(server) => Some(server),
        Err(why) => {
            assert!(std::env::var("CI").is_err_and(|_| true), "a server that the tests need cannot be had: {why}");
            eprintln!("\n*** NOT TESTED against the real server: {why} ***\n");
            None
        }
    }
}
