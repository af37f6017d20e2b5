//! A private host for tests: real `sudo` and OpenSSH, with accounts and rules of our own, in a mount namespace that
//! nothing outside sees and that is gone when the run is over.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;

/// An account of the host.
#[derive(Clone, Debug)]
pub struct Login {
    /// Its name.
    pub name: String,
    /// Its shell.
    pub shell: String,
}

/// What is tried on the host.
#[derive(Clone, Debug)]
pub enum Try {
    /// `from` runs a program with arguments as `to`, handing variables over.
    Run {
        /// The account it is tried from.
        from: String,
        /// The account it would run as.
        to: String,
        /// Variables, as `NAME=VALUE`.
        variables: Vec<String>,
        /// The program's full path and its arguments.
        argv: Vec<String>,
    },
    /// `from` writes a program anew, and then runs it as `to`.
    Rewrite {
        /// The account it is tried from.
        from: String,
        /// The account it would run as.
        to: String,
        /// The program's full path.
        program: String,
    },
    /// `from` enters the login shell of `to`.
    Shell {
        /// The account it is tried from.
        from: String,
        /// The account whose shell it is.
        to: String,
    },
    /// Whoever has the key of `user` signs in with `login`, from an address.
    SignIn {
        /// Whose key is used.
        user: String,
        /// The account.
        login: String,
        /// The address.
        from: String,
    },
}

/// What the host did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Did {
    /// Whether its rules let the program run, proof of identity aside; the same as `ran` for a sign-in, and whether it was written for a
    /// program that is written anew.
    pub listed: bool,
    /// Whether it ran without a password being asked for.
    pub ran: bool,
}

/// The host's own configuration and what is on it.
#[derive(Clone, Debug, Default)]
pub struct Host {
    /// Accounts.
    pub logins: Vec<Login>,
    /// Rules for `sudo`.
    pub run_as: String,
    /// Rules for OpenSSH.
    pub sign_in: String,
    /// For each account, the users whose keys open it.
    pub keys_of: Vec<(String, Vec<String>)>,
    /// Programs in `/usr/local/bin`.
    pub programs: Vec<String>,
    /// Links in `/usr/local/bin`: where they stand and where they lead.
    pub links: Vec<(String, String)>,
    /// Files, and the account that may write each.
    pub writable: Vec<(String, String)>,
}

/// Why there is no host to ask; nothing if there is.
#[must_use]
pub fn missing() -> Option<&'static str> {
    let has = |program: &str| Path::new(program).exists();
    if !(has("/usr/bin/sudo") && has("/usr/sbin/visudo") && has("/usr/sbin/sshd") && has("/usr/bin/ssh")) {
        return Some("sudo and OpenSSH are not installed");
    }
    let can = Command::new("unshare").args(["--mount", "true"]).output().is_ok_and(|o| o.status.success());
    (!can).then_some("a mount namespace needs root")
}

fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

fn write(folder: &Path, name: &str, text: &str, mode: u32) -> PathBuf {
    let path = folder.join(name);
    std::fs::write(&path, text).expect("the temporary folder can be written");
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(mode)).expect("it is ours");
    path
}

/// Some ports that are free at the moment, different ones, with spaces between.
fn free_ports(count: usize) -> String {
    let open: Vec<_> = (0..count).map(|_| std::net::TcpListener::bind("127.0.0.1:0").expect("there is a loopback interface")).collect();
    let ports: Vec<String> = open.iter().filter_map(|l| l.local_addr().ok()).map(|a| a.port().to_string()).collect();
    ports.join(" ")
}

impl Host {
    /// Tries everything, in one run of the host, and says what each came to.
    ///
    /// # Panics
    /// When the host's own checkers refuse the configuration, with what they say.
    #[must_use]
    pub fn judge(&self, tries: &[Try]) -> Vec<Did> {
        let stamp = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map(|d| d.as_nanos()).unwrap_or(0);
        let folder = std::env::temp_dir().join(format!("zest-host-{}-{stamp}", std::process::id()));
        std::fs::create_dir_all(folder.join("keys")).expect("the temporary folder can be written");
        std::fs::set_permissions(&folder, std::fs::Permissions::from_mode(0o755)).expect("it is ours");
        self.files(&folder);
        let users: BTreeMap<&str, ()> =
            tries.iter().filter_map(|t| if let Try::SignIn { user, .. } = t { Some((user.as_str(), ())) } else { None }).collect();
        for user in users.keys() {
            let key = folder.join(format!("id-{user}"));
            let made =
                Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(&key).output().expect("ssh-keygen runs");
            assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        }
        for (login, users) in &self.keys_of {
            let keys: String = users.iter().filter_map(|u| std::fs::read_to_string(folder.join(format!("id-{u}.pub"))).ok()).collect();
            write(&folder, &format!("keys/{login}"), &keys, 0o644);
        }
        let script = write(&folder, "run.sh", &self.script(&folder, tries), 0o755);
        let out = Command::new("unshare").args(["--mount", "--fork", "bash"]).arg(&script).output().expect("unshare runs");
        let text = String::from_utf8_lossy(&out.stdout).into_owned();
        let _ = std::fs::remove_dir_all(&folder);
        assert!(out.status.success(), "the host does not take its configuration:\n{text}\n{}", String::from_utf8_lossy(&out.stderr));
        let mut found: BTreeMap<usize, Did> = BTreeMap::new();
        for line in text.lines().filter_map(|l| l.strip_prefix("did ")) {
            let numbers: Vec<usize> = line.split(' ').filter_map(|n| n.parse().ok()).collect();
            if let [number, listed, ran] = numbers[..] {
                found.insert(number, Did { listed: listed == 1, ran: ran == 1 });
            }
        }
        assert_eq!(found.len(), tries.len(), "some tries came to nothing:\n{text}\n{}", String::from_utf8_lossy(&out.stderr));
        found.into_values().collect()
    }

    fn files(&self, folder: &Path) {
        let mut passwd =
            "root:x:0:0:root:/root:/bin/bash\nsshd:x:100:65534::/run/sshd:/usr/sbin/nologin\nnobody:x:65534:65534::/:/usr/sbin/nologin\n"
                .to_owned();
        let mut group = "root:x:0:\nshadow:x:42:\nnogroup:x:65534:\ntty:x:5:\n".to_owned();
        let mut shadow = "root:*:19000:0:99999:7:::\nsshd:*:19000:0:99999:7:::\nnobody:*:19000:0:99999:7:::\n".to_owned();
        for (i, login) in self.logins.iter().enumerate() {
            let id = 20_000 + i;
            let _ = writeln!(passwd, "{}:x:{id}:{id}::/:{}", login.name, login.shell);
            let _ = writeln!(group, "{}:x:{id}:", login.name);
            let _ = writeln!(shadow, "{}:*:19000:0:99999:7:::", login.name);
        }
        write(folder, "passwd", &passwd, 0o644);
        write(folder, "group", &group, 0o644);
        write(folder, "shadow", &shadow, 0o600);
        write(folder, "sudoers", &self.run_as, 0o440);
        write(folder, "sign-in", &self.sign_in, 0o644);
        let config = format!(
            "ListenAddress 127.0.0.1\nHostKey {0}/host-key\nAuthorizedKeysFile {0}/keys/%u\nStrictModes no\nUsePAM no\n\
             PasswordAuthentication no\nKbdInteractiveAuthentication no\nPidFile {0}/sshd.pid\nMaxStartups 100\nUseDNS no\nInclude {0}/sign-in\n",
            folder.display()
        );
        write(folder, "sshd_config", &config, 0o644);
    }

    fn script(&self, folder: &Path, tries: &[Try]) -> String {
        let mut script = format!(
            "set -u\nD={}\nmount --make-rprivate / || exit 97\n\
             for f in passwd group shadow sudoers; do mount --bind \"$D/$f\" \"/etc/$f\" || exit 98; done\n\
             mount -t tmpfs tmpfs /usr/local/bin || exit 98\nmkdir -p /run/sshd\n",
            quoted(&folder.display().to_string())
        );
        for program in &self.programs {
            let _ = writeln!(
                script,
                "printf '#!/bin/sh\\necho ran as $(/usr/bin/id -un)\\n' >/usr/local/bin/{program}; chmod 755 /usr/local/bin/{program}"
            );
        }
        for (from, to) in &self.links {
            let _ = writeln!(script, "mkdir -p \"$(dirname {0})\" && ln -s {1} {0}", quoted(from), quoted(to));
        }
        for (file, login) in &self.writable {
            let _ = writeln!(script, "chown {login} {0} && chmod 755 {0}", quoted(file));
        }
        script.push_str("visudo -c -q -f /etc/sudoers || { visudo -c -f /etc/sudoers; exit 99; }\n");
        if tries.iter().any(|t| matches!(t, Try::SignIn { .. })) {
            // A port that is free now may be another program's when the server binds it: then the next one is tried, and only
            // the server's own word counts that it listens.
            script.push_str("ssh-keygen -q -t ed25519 -N '' -f \"$D/host-key\"\n/usr/sbin/sshd -t -f \"$D/sshd_config\" || exit 99\n");
            let _ = writeln!(
                script,
                "for PORT in {}; do\n: >\"$D/sshd.log\"\n/usr/sbin/sshd -f \"$D/sshd_config\" -p $PORT -E \"$D/sshd.log\"\n\
                 for n in $(seq 300); do grep -q 'Server listening' \"$D/sshd.log\" && break 2\n\
                 grep -q 'Cannot bind' \"$D/sshd.log\" && break\nsleep 0.1; done; done\n\
                 grep -q 'Server listening' \"$D/sshd.log\" || {{ cat \"$D/sshd.log\"; exit 96; }}",
                free_ports(5)
            );
        }
        script.push_str("cd /\n");
        for (number, one) in tries.iter().enumerate() {
            match one {
                Try::Run { from, to, variables, argv } => {
                    let list = |texts: &[String]| texts.iter().map(|t| quoted(t)).collect::<Vec<_>>().join(" ");
                    let (argv, variables) = (list(argv), list(variables));
                    let _ = writeln!(
                        script,
                        "sudo -n -l -U {from} -u {to} -- {argv} >/dev/null 2>&1 </dev/null && l=1 || l=0\n\
                         o=$(setpriv --reuid={from} --regid={from} --init-groups sudo -n -u {to} {variables} -- {argv} 2>/dev/null <<<'echo ran as $(/usr/bin/id -un)')\n\
                         [ \"$o\" = 'ran as {to}' ] && r=1 || r=0\necho did {number} $l $r"
                    );
                }
                Try::Rewrite { from, to, program } => {
                    let program = quoted(program);
                    let _ = writeln!(
                        script,
                        "printf '#!/bin/sh\\necho walked as $(/usr/bin/id -un)\\n' | setpriv --reuid={from} --regid={from} --init-groups tee {program} >/dev/null 2>&1 && l=1 || l=0\n\
                         o=$(setpriv --reuid={from} --regid={from} --init-groups sudo -n -u {to} -- {program} 2>/dev/null </dev/null)\n\
                         [ \"$o\" = 'walked as {to}' ] && r=1 || r=0\necho did {number} $l $r"
                    );
                }
                Try::Shell { from, to } => {
                    let _ = writeln!(
                        script,
                        "sudo -n -l -U {from} -u {to} -i >/dev/null 2>&1 </dev/null\n\
                         o=$(echo 'echo entered $(/usr/bin/id -un)' | setpriv --reuid={from} --regid={from} --init-groups sudo -n -u {to} -i 2>/dev/null)\n\
                         [ \"$o\" = 'entered {to}' ] && r=1 || r=0\necho did {number} $r $r"
                    );
                }
                Try::SignIn { user, login, from } => {
                    let _ = writeln!(
                        script,
                        "o=$(ssh -n -F none -o BatchMode=yes -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR \
                         -o IdentitiesOnly=yes -i \"$D/id-{user}\" -b {from} -p $PORT {login}@127.0.0.1 'echo entered $(/usr/bin/id -un)' 2>/dev/null)\n\
                         [ \"$o\" = 'entered {login}' ] && r=1 || r=0\necho did {number} $r $r"
                    );
                }
            }
        }
        script.push_str("[ -f \"$D/sshd.pid\" ] && kill \"$(cat \"$D/sshd.pid\")\"\nexit 0\n");
        script
    }
}
