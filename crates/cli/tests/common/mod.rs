//! Runs the built program on files in a temporary folder.
#![allow(dead_code, reason = "each test program uses a part of it")]

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::Value;

/// What a run said.
pub struct Run {
    pub code: i32,
    pub stdout: String,
    pub stderr: String,
}

impl Run {
    pub fn json(&self) -> Value {
        serde_json::from_str(&self.stdout).unwrap_or_else(|e| panic!("{e}: {}\n{}", self.stdout, self.stderr))
    }

    pub fn all(&self) -> String {
        format!("{}{}", self.stdout, self.stderr)
    }
}

/// Runs the program in a folder.
pub fn uspan(folder: &Path, args: &[&str]) -> Run {
    let output = Command::new(env!("CARGO_BIN_EXE_uspan")).args(args).current_dir(folder).output().expect("the program runs");
    Run {
        code: output.status.code().expect("an exit code"),
        stdout: String::from_utf8(output.stdout).expect("text"),
        stderr: String::from_utf8(output.stderr).expect("text"),
    }
}

/// The permissions of a file.
pub fn mode(path: &Path) -> u32 {
    fs::metadata(path).expect("there").permissions().mode() & 0o777
}

/// Builds the orchard.
pub fn build(folder: &Path, more: &[&str]) -> Run {
    let mut args = vec!["build", "orchard.span.toml", "-o", "out"];
    args.extend(more);
    uspan(folder, &args)
}

pub fn write(path: &Path, content: impl AsRef<[u8]>, mode: u32) {
    fs::create_dir_all(path.parent().expect("a folder")).expect("made");
    fs::write(path, content).expect("written");
    fs::set_permissions(path, fs::Permissions::from_mode(mode)).expect("set");
}

pub const SECRET: &str = "Kq8vT2mXr0ZpL4nWc7YbD1sHfJ6gUeA9tRoEiNvB3xM";

/// A folder with the orchard's description and its secret.
pub fn orchard() -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    write(&folder.path().join("orchard.span.toml"), include_str!("../../../core/demo/orchard.span.toml"), 0o644);
    write(&folder.path().join("secrets/harvest.key"), format!("{SECRET}\n"), 0o600);
    folder
}

/// All files below a folder, sorted.
pub fn files(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    let mut open = vec![folder.to_owned()];
    while let Some(path) = open.pop() {
        for entry in fs::read_dir(&path).expect("a folder") {
            let entry = entry.expect("an entry");
            match entry.file_type().expect("a kind").is_dir() {
                true => open.push(entry.path()),
                false => found.push(entry.path()),
            }
        }
    }
    found.sort();
    found
}

/// Key files of the orchard's sites, made by the program.
pub fn write_keys(folder: &Path) {
    for site in ["packhouse", "coldstore", "press"] {
        let run = uspan(folder, &["secret", &format!("keys/{site}.key"), "--pair"]);
        assert_eq!(run.code, 0, "{}", run.stderr);
    }
    for site in ["packhouse", "coldstore"] {
        let key = fs::read_to_string(folder.join(format!("keys/{site}.key"))).expect("a key");
        for (file, pem) in certificates(site, &key) {
            write(&folder.join(file), pem, 0o644);
        }
    }
}

/// Names under which the two sites of the orchard are certified.
const NAMES: [(&str, &[&str]); 2] = [
    ("packhouse", &["packhouse.example.net", "198.51.100.20", "2001:db8:1::20"]),
    ("coldstore", &["coldstore.example.net", "203.0.113.77", "2001:db8:2::77"]),
];

/// An authority of the tests: its certificate, and what signs with its key.
pub struct Authority {
    pub pem: String,
    issuer: rcgen::Issuer<'static, rcgen::KeyPair>,
}

impl Authority {
    pub fn new(organisation: &str) -> Authority {
        let mut params = rcgen::CertificateParams::default();
        params.distinguished_name.push(rcgen::DnType::OrganizationName, organisation);
        params.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
        let key = rcgen::KeyPair::generate().expect("a key");
        let pem = params.self_signed(&key).expect("signed").pem();
        Authority { pem, issuer: rcgen::Issuer::new(params, key) }
    }

    /// A certificate that holds in these years.
    pub fn certify(&self, names: &[&str], key: &str, years: [i32; 2]) -> String {
        let (mails, others): (Vec<&str>, Vec<&str>) = names.iter().partition(|name| name.contains('@'));
        let mut params = rcgen::CertificateParams::new(others.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>()).expect("names");
        let mails = mails.iter().map(|mail| rcgen::SanType::Rfc822Name((*mail).try_into().expect("letters")));
        params.subject_alt_names.extend(mails);
        params.distinguished_name = rcgen::DistinguishedName::new();
        params.distinguished_name.push(rcgen::DnType::OrganizationName, "Alder Creek Orchards");
        params.distinguished_name.push(rcgen::DnType::CommonName, names[0]);
        params.use_authority_key_identifier_extension = true;
        [params.not_before, params.not_after] = years.map(|year| rcgen::date_time_ymd(year, 1, 1));
        if years[1] == SOON {
            params.not_after = time::OffsetDateTime::now_utc() + time::Duration::days(10);
        }
        params.signed_by(&rcgen::KeyPair::from_pem(key).expect("a key"), &self.issuer).expect("signed").pem()
    }
}

/// Instead of a year: in ten days.
const SOON: i32 = 9999;

/// One authority for each test program.
pub static AUTHORITY: std::sync::LazyLock<Authority> = std::sync::LazyLock::new(|| Authority::new("Alder Creek Orchards authority"));

/// One that nobody is to believe.
static LAB: std::sync::LazyLock<Authority> = std::sync::LazyLock::new(|| Authority::new(uspan_core::LAB_ORGANISATION));

/// Certificates for a site's key, by file: a good one, and ones that are not.
pub fn certificates(site: &str, key: &str) -> Vec<(String, String)> {
    let names = NAMES.iter().find(|(name, _)| *name == site).map(|(_, names)| *names).unwrap_or_default();
    let (good, lab) = ([2020, 2120], &*LAB);
    vec![
        ("keys/ca.crt".to_owned(), AUTHORITY.pem.clone()),
        ("keys/other-ca.crt".to_owned(), Authority::new("Another authority").pem),
        (format!("keys/{site}.crt"), AUTHORITY.certify(names, key, good)),
        (format!("keys/{site}-ended.crt"), AUTHORITY.certify(names, key, [2001, 2002])),
        ("keys/lab-ca.crt".to_owned(), lab.pem.clone()),
        (format!("keys/{site}-lab.crt"), lab.certify(names, key, good)),
        (format!("keys/{site}-ending.crt"), AUTHORITY.certify(names, key, [2020, SOON])),
        (format!("keys/{site}-early.crt"), AUTHORITY.certify(names, key, [2110, 2120])),
        (format!("keys/{site}-other.crt"), AUTHORITY.certify(&["press.example.net"], key, good)),
    ]
}
