//! Encrypted sessions: the server's certificate is verified, and nothing falls back to plain text.

use std::fs::{self, Permissions};
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, chown};
use std::path::{Path, PathBuf};

use mysql::prelude::Queryable;
use rcgen::{BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair};
use zest_bridges::{Certificates, Encryption, mariadb, postgresql};
use zest_testkit::servers;

/// Certificates in a folder of their own, which the servers may read.
struct Files {
    home: tempfile::TempDir,
}

impl Files {
    /// Makes an authority, a server's certificate for some names, and a client's.
    fn new(names: &[&str]) -> Self {
        let home = tempfile::Builder::new().permissions(Permissions::from_mode(0o755)).tempdir().expect("a folder");
        let of_authority = KeyPair::generate().expect("a key");
        let mut params = CertificateParams::new(Vec::new()).expect("no names");
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.distinguished_name.push(DnType::CommonName, "the authority of the tests");
        let authority = params.self_signed(&of_authority).expect("it signs");
        let issuer = Issuer::new(params, of_authority);
        let files = Self { home };
        fs::write(files.at("roots.pem"), authority.pem()).expect("written");
        for (file, names) in [("server", names), ("client", &["administrator"])] {
            let key = KeyPair::generate().expect("a key");
            let names: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
            let mut params = CertificateParams::new(names).expect("names");
            params.distinguished_name.push(DnType::CommonName, file);
            let certificate = params.signed_by(&key, &issuer).expect("it signs");
            fs::write(files.at(&format!("{file}.pem")), certificate.pem()).expect("written");
            fs::write(files.at(&format!("{file}.key")), key.serialize_pem()).expect("written");
            fs::set_permissions(files.at(&format!("{file}.key")), Permissions::from_mode(0o600)).expect("ours");
        }
        files
    }

    fn at(&self, name: &str) -> PathBuf {
        self.home.path().join(name)
    }

    /// Gives the server's key to the user that a server runs as, which owns a folder.
    fn give_to(&self, folder: &str) {
        if let Ok(owner) = fs::metadata(folder)
            && fs::metadata("/proc/self").is_ok_and(|own| own.uid() == 0)
        {
            chown(self.at("server.key"), Some(owner.uid()), Some(owner.gid())).expect("root may");
        }
    }

    fn trusted(&self) -> Encryption {
        Encryption::Always(Certificates { roots: Some(self.at("roots.pem")), client: None })
    }

    fn with_client(&self) -> Encryption {
        let client = Some((self.at("client.pem"), self.at("client.key")));
        Encryption::Always(Certificates { roots: Some(self.at("roots.pem")), client })
    }
}

fn on_postgresql(port: u16, encryption: Encryption) -> Result<String, String> {
    let target = postgresql::Target {
        host: "127.0.0.1".to_owned(),
        port,
        user: "postgres".to_owned(),
        database: "postgres".to_owned(),
        password: None,
        encryption,
    };
    let mut session = postgresql::Session::open(&target).map_err(|e| e.to_string())?;
    let query = "SELECT ssl::text || ' ' || coalesce(client_dn, '') FROM pg_stat_ssl WHERE pid = pg_backend_pid()";
    Ok(session.client().query_one(query, &[]).expect("it answers").get(0))
}

fn shown(path: &Path) -> String {
    path.display().to_string()
}

#[test]
fn sessions_on_postgresql_are_encrypted_and_verified() {
    let files = Files::new(&["127.0.0.1"]);
    files.give_to("/var/lib/postgresql");
    let Some(plain) = servers::wanted(servers::postgresql) else { return };
    let settings = [
        "ssl=on".to_owned(),
        format!("ssl_cert_file={}", shown(&files.at("server.pem"))),
        format!("ssl_key_file={}", shown(&files.at("server.key"))),
        format!("ssl_ca_file={}", shown(&files.at("roots.pem"))),
    ];
    let server = zest_servers::postgresql_with(&settings.each_ref().map(String::as_str)).unwrap_or_else(|e| panic!("{e}"));
    assert_eq!(on_postgresql(server.port, files.trusted()).as_deref(), Ok("true "));
    assert!(on_postgresql(server.port, files.with_client()).is_ok_and(|told| told.starts_with("true /")), "our certificate is shown");
    assert_eq!(on_postgresql(server.port, Encryption::default()).as_deref(), Ok("false "), "loopback");
    // Another authority, another name, no certificate at all, and a server that knows no encryption.
    let others = Files::new(&["db-1.lanternsound.example"]);
    let refused = |encryption: Encryption, port: u16| on_postgresql(port, encryption).expect_err("it must not be trusted");
    assert!(refused(others.trusted(), server.port).contains("certificate"), "{}", refused(others.trusted(), server.port));
    let nothing = Encryption::Always(Certificates { roots: Some(files.at("server.key")), client: None });
    assert!(refused(nothing, server.port).contains("no certificate"));
    let gone = Encryption::Always(Certificates { roots: Some(files.at("gone.pem")), client: None });
    assert!(refused(gone, server.port).contains("gone.pem"));
    let told = refused(files.trusted(), plain.port);
    assert!(told.contains("TLS") && told.contains("tunnel"), "{told}");
}

#[test]
fn a_certificate_for_another_name_is_refused() {
    let files = Files::new(&["db-1.lanternsound.example"]);
    files.give_to("/var/lib/postgresql");
    if servers::wanted(servers::postgresql).is_none() {
        return;
    }
    let settings = [
        "ssl=on".to_owned(),
        format!("ssl_cert_file={}", shown(&files.at("server.pem"))),
        format!("ssl_key_file={}", shown(&files.at("server.key"))),
    ];
    let server = zest_servers::postgresql_with(&settings.each_ref().map(String::as_str)).unwrap_or_else(|e| panic!("{e}"));
    let told = on_postgresql(server.port, files.trusted()).expect_err("it is for another name");
    assert!(told.contains("certificate"), "{told}");
}

#[test]
fn sessions_on_mariadb_are_encrypted_and_verified() {
    let files = Files::new(&["127.0.0.1"]);
    files.give_to("/var/lib/mysql");
    let Some(plain) = servers::wanted(servers::mariadb) else { return };
    let words = [
        "--ssl=on".to_owned(),
        format!("--ssl-cert={}", shown(&files.at("server.pem"))),
        format!("--ssl-key={}", shown(&files.at("server.key"))),
        format!("--ssl-ca={}", shown(&files.at("roots.pem"))),
    ];
    let server = servers::mariadb_with(&words.each_ref().map(String::as_str)).unwrap_or_else(|e| panic!("{e}"));
    let open = |folder: &Path| {
        let host = folder.join("socket").display().to_string();
        let target = mariadb::Target { host, port: 0, user: "root".to_owned(), password: None, encryption: Encryption::default() };
        mariadb::Session::open(&target).unwrap_or_else(|e| panic!("{e}"))
    };
    for folder in [&server.folder, &plain.folder] {
        let mut root = open(folder);
        for statement in ["CREATE USER any@'127.0.0.1'", "CREATE USER shown@'127.0.0.1' REQUIRE X509"] {
            root.client().query_drop(statement).expect("root may");
        }
    }
    let on_mariadb = |port: u16, user: &str, encryption: Encryption| {
        let target = mariadb::Target { host: "127.0.0.1".to_owned(), port, user: user.to_owned(), password: None, encryption };
        let mut session = mariadb::Session::open(&target).map_err(|e| e.to_string())?;
        let row: (String, String) = session.client().query_first("SHOW STATUS LIKE 'Ssl_cipher'").expect("it answers").expect("a row");
        Ok::<bool, String>(!row.1.is_empty())
    };
    assert_eq!(on_mariadb(server.port, "any", files.trusted()), Ok(true));
    assert_eq!(on_mariadb(server.port, "any", Encryption::Never), Ok(false));
    assert_eq!(on_mariadb(server.port, "shown", files.with_client()), Ok(true));
    assert!(on_mariadb(server.port, "shown", files.trusted()).is_err(), "the account wants our certificate");
    let others = Files::new(&["127.0.0.1"]);
    let told = on_mariadb(server.port, "any", others.trusted()).expect_err("another authority");
    assert!(told.contains("certificate"), "{told}");
    let told = on_mariadb(plain.port, "any", files.trusted()).expect_err("it knows no encryption");
    assert!(told.contains("tunnel"), "{told}");
}
