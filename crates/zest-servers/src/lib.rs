//! Private database servers: on free ports, in a temporary folder of their own that nobody else may enter, as an unprivileged user,
//! removed at the end.
//!
//! They are started from the packages that are installed, hold nothing that was not put into them, and reach no files but their own.

use std::net::TcpListener;
use std::os::unix::fs::{DirBuilderExt as _, chown};
use std::os::unix::net::UnixStream;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A server of our own.
#[derive(Debug)]
pub struct Server {
    child: Child,
    /// Its folder, with its socket in it.
    pub folder: PathBuf,
    /// Its port on every loopback address.
    pub port: u16,
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        let _ = std::fs::remove_dir_all(&self.folder);
    }
}

/// The user a server runs as: servers refuse to run as root.
fn unprivileged(name: &str) -> Option<(u32, u32)> {
    let is_root = std::fs::metadata("/proc/self").map(|m| std::os::unix::fs::MetadataExt::uid(&m) == 0).unwrap_or(false);
    if !is_root {
        return None;
    }
    let users = std::fs::read_to_string("/etc/passwd").ok()?;
    let line = users.lines().find(|l| l.split(':').next() == Some(name))?;
    let mut fields = line.split(':').skip(2);
    Some((fields.next()?.parse().ok()?, fields.next()?.parse().ok()?))
}

fn command(program: &Path, user: Option<(u32, u32)>) -> Command {
    let mut command = Command::new(program);
    if let Some((uid, gid)) = user {
        command.uid(uid).gid(gid);
    }
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).env("LC_ALL", "C.UTF-8");
    command
}

fn free_port() -> Result<u16, String> {
    let found = TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr());
    found.map(|address| address.port()).map_err(|e| format!("no port is free on the loopback interface: {e}"))
}

fn folder(name: &str, user: Option<(u32, u32)>) -> Result<PathBuf, String> {
    let stamp = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map(|d| d.as_nanos()).unwrap_or(0);
    // In memory where that is there: the servers wait for their disk at every CREATE and TRUNCATE.
    let memory = Path::new("/dev/shm");
    let base = if memory.is_dir() { memory.to_owned() } else { std::env::temp_dir() };
    let path = base.join(format!("zest-{name}-{}-{stamp}", std::process::id()));
    let fail = |e: std::io::Error| format!("{}: {e}", path.display());
    std::fs::DirBuilder::new().mode(0o700).recursive(true).create(&path).map_err(fail)?;
    if let Some((uid, gid)) = user {
        chown(&path, Some(uid), Some(gid)).map_err(fail)?;
    }
    Ok(path)
}

/// A port that was free a moment ago may be taken by a session of another test: then the next one is tried.
fn on_a_free_port(start: impl Fn(u16) -> Result<Child, String>) -> Result<(Child, u16), String> {
    let mut last = String::new();
    for _ in 0..5 {
        let port = free_port()?;
        match start(port) {
            Ok(child) => return Ok((child, port)),
            Err(why) => last = why,
        }
    }
    Err(last)
}

/// Waits until a server answers. `answers` has to ask over the socket in the server's own folder: its port may be another
/// server's by now, and is opened before the socket that the tests connect to.
fn wait_for(child: &mut Child, log: &Path, answers: impl Fn() -> bool) -> Result<(), String> {
    let start = Instant::now();
    while start.elapsed() < Duration::from_secs(60) {
        if answers() {
            return Ok(());
        }
        if let Ok(Some(status)) = child.try_wait() {
            return Err(format!("the server ended: {status}\n{}", std::fs::read_to_string(log).unwrap_or_default()));
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    Err("the server did not answer within a minute".to_owned())
}

fn found(candidates: &[&str]) -> Option<PathBuf> {
    candidates.iter().map(PathBuf::from).find(|p| p.exists())
}

/// Starts a PostgreSQL 15 with the superuser `postgres`, who needs no credential.
///
/// # Errors
/// Says what is missing.
pub fn postgresql() -> Result<Server, String> {
    postgresql_with(&[])
}

/// Starts a PostgreSQL 15 with more settings, each `name=value`; its socket is in its folder.
///
/// # Errors
/// Says what is missing.
pub fn postgresql_with(settings: &[&str]) -> Result<Server, String> {
    let bin = found(&["/usr/lib/postgresql/15/bin"]).ok_or("PostgreSQL 15 is not installed (Debian package postgresql-15)")?;
    let user = unprivileged("postgres");
    let home = folder("postgresql", user)?;
    let data = home.join("data");
    let made = command(&bin.join("initdb"), user)
        .args(["--auth=trust", "-U", "postgres", "--no-sync", "--locale=C.UTF-8", "-E", "UTF8", "-D"])
        .arg(&data)
        .current_dir(&home)
        .status()
        .map_err(|e| format!("initdb: {e}"))?;
    if !made.success() {
        return Err(format!("initdb failed: {made}"));
    }
    let log = home.join("log");
    let start = |port: u16| {
        let file = std::fs::File::create(&log).map_err(|e| e.to_string())?;
        let mut child = command(&bin.join("postgres"), user)
            .arg("-D")
            .arg(&data)
            .args(["-p", &port.to_string(), "-k"])
            .arg(&home)
            .args(["-c", "listen_addresses=127.0.0.1", "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off"])
            .args(["-c", "autovacuum=off", "-c", "max_connections=50"])
            // In its own folder, and gone with it.
            .args(["-c", "dynamic_shared_memory_type=mmap"])
            .args(settings.iter().flat_map(|setting| ["-c", setting]))
            .stderr(file)
            .current_dir(&home)
            .spawn()
            .map_err(|e| e.to_string())?;
        // It takes connections before it is ready for them, and then refuses: "the database system is starting up".
        wait_for(&mut child, &log, || {
            let mut question = command(&bin.join("pg_isready"), user);
            question.arg("--quiet").arg(format!("--host={}", home.display())).arg(format!("--port={port}"));
            question.status().is_ok_and(|status| status.success())
        })?;
        Ok(child)
    };
    let (child, port) = on_a_free_port(start)?;
    Ok(Server { child, folder: home, port })
}

/// Starts a MariaDB with the account `root@localhost` over its socket, which needs no credential.
///
/// # Errors
/// Says what is missing.
pub fn mariadb() -> Result<Server, String> {
    mariadb_with(&[])
}

/// Starts a MariaDB with more words on its command line.
///
/// # Errors
/// Says what is missing.
pub fn mariadb_with(words: &[&str]) -> Result<Server, String> {
    let daemon = found(&["/usr/sbin/mariadbd"]).ok_or("MariaDB is not installed (Debian package mariadb-server)")?;
    let install = found(&["/usr/bin/mariadb-install-db"]).ok_or("mariadb-install-db is not installed (Debian package mariadb-server)")?;
    let user = unprivileged("mysql");
    let home = folder("mariadb", user)?;
    let data = home.join("data");
    let made = command(&install, user)
        .args(["--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve"])
        .arg(format!("--datadir={}", data.display()))
        .arg(format!("--tmpdir={}", home.display()))
        .current_dir(&home)
        .status()
        .map_err(|e| format!("mariadb-install-db: {e}"))?;
    if !made.success() {
        return Err(format!("mariadb-install-db failed: {made}"));
    }
    let log = home.join("log");
    // It reads and writes no files but its own, and loads nothing into itself.
    let (files, plugins) = (home.join("files"), home.join("plugins"));
    for folder in [&files, &plugins] {
        std::fs::create_dir(folder).map_err(|e| format!("{}: {e}", folder.display()))?;
    }
    let start = |port: u16| {
        let mut child = command(&daemon, user)
            .args(["--no-defaults", "--skip-name-resolve", "--bind-address=127.0.0.1,127.0.0.2,127.0.0.3,127.0.1.1", "--skip-log-bin"])
            .args(["--innodb-flush-log-at-trx-commit=0", "--innodb-buffer-pool-size=64M", "--max-connections=400", "--skip-ssl"])
            .arg(format!("--secure-file-priv={}", files.display()))
            .arg(format!("--plugin-dir={}", plugins.display()))
            .arg(format!("--datadir={}", data.display()))
            .arg(format!("--socket={}", home.join("socket").display()))
            .arg(format!("--pid-file={}", home.join("pid").display()))
            .arg(format!("--tmpdir={}", home.display()))
            .arg(format!("--log-error={}", log.display()))
            .arg(format!("--port={port}"))
            .args(words)
            .current_dir(&home)
            .spawn()
            .map_err(|e| e.to_string())?;
        wait_for(&mut child, &log, || UnixStream::connect(home.join("socket")).is_ok())?;
        Ok(child)
    };
    let (child, port) = on_a_free_port(start)?;
    Ok(Server { child, folder: home, port })
}
