//! Certificates and keys that a suite makes at its run, and that stand in none of its files: made here, with the names that it gives
//! them.

use std::process::Command;

use uspan_core::{Tree, TreeFile};

/// An authority, and a certificate of it for each host.
pub struct Authority {
    certificate: String,
    /// By host: certificate, key, public key.
    hosts: Vec<(&'static str, [String; 3])>,
}

const HOSTS: [&str; 5] = ["moon", "sun", "alice", "bob", "venus"];

/// As the suite calls its organisation.
const ORGANISATION: &str = "/C=CH/O=strongSwan Project";

fn openssl(folder: &std::path::Path, script: &str) {
    let ran = Command::new("sh").arg("-ec").arg(script).current_dir(folder).output().expect("a shell");
    assert!(ran.status.success(), "{script}\n{}", String::from_utf8_lossy(&ran.stderr));
}

impl Authority {
    pub fn new() -> Authority {
        let folder = tempfile::tempdir().expect("a folder");
        let read = |name: &str| std::fs::read_to_string(folder.path().join(name)).expect(name);
        openssl(
            folder.path(),
            &format!(
                "openssl req -x509 -newkey rsa:2048 -nodes -days 3650 -keyout ca.key -out ca.crt -subj '{ORGANISATION}/CN=strongSwan Root CA' 2>/dev/null"
            ),
        );
        let hosts = HOSTS.map(|host| {
            // Two of its hosts are called as people are.
            let (kind, name) = match host {
                "alice" | "bob" => ("email", format!("{host}@strongswan.org")),
                _ => ("DNS", format!("{host}.strongswan.org")),
            };
            openssl(
                folder.path(),
                &format!(
                    "openssl req -newkey rsa:2048 -nodes -keyout {host}.key -out {host}.csr -subj '{ORGANISATION}/CN={name}' 2>/dev/null
                     printf 'subjectAltName={kind}:{name}\\n' > {host}.ext
                     openssl x509 -req -in {host}.csr -CA ca.crt -CAkey ca.key -CAcreateserial -days 3650 -extfile {host}.ext -out {host}.crt 2>/dev/null
                     openssl rsa -in {host}.key -pubout -out {host}.pub 2>/dev/null"
                ),
            );
            (host, [read(&format!("{host}.crt")), read(&format!("{host}.key")), read(&format!("{host}.pub"))])
        });
        Authority { certificate: read("ca.crt"), hosts: hosts.into() }
    }

    /// Adds what the files of a host name and do not have.
    pub fn supply(&self, tree: &mut Tree) {
        let text = tree.files["etc/swanctl/swanctl.conf"].text.clone();
        let mut add = |path: String, text: &str| {
            if !tree.files.contains_key(&path) {
                tree.add(path, TreeFile::public(text.to_owned()));
            }
        };
        let named = text.lines().filter_map(|line| line.split_once('='));
        for (key, value) in named {
            for file in value.split(',').map(|file| file.trim().trim_matches('"')).filter(|file| !file.is_empty()) {
                let of = |file: &str| self.hosts.iter().find(|(host, _)| file.starts_with(host)).map(|(_, files)| files);
                match key.trim() {
                    "certs" => {
                        if let Some([certificate, private, _]) = of(file) {
                            add(format!("etc/swanctl/x509/{file}"), certificate);
                            add(format!("etc/swanctl/rsa/{}", file.replace("Cert", "Key")), private);
                        }
                    }
                    "cacerts" => add(format!("etc/swanctl/x509ca/{file}"), &self.certificate),
                    "pubkeys" => {
                        if let Some([.., public]) = of(file) {
                            add(format!("etc/swanctl/pubkey/{file}"), public);
                        }
                    }
                    _ => {}
                }
            }
        }
        add("etc/swanctl/x509ca/strongswanCert.pem".to_owned(), &self.certificate);
    }
}
