//! Source packages of the daemons: fetched into the cache, never into the repository.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

/// A source package of a suite of Debian.
pub struct SourcePackage {
    /// Its name.
    pub name: &'static str,
    /// How its version begins.
    pub version: &'static str,
}

impl SourcePackage {
    /// A scenario of its suite among those of all.
    pub fn scenario(&self, name: &str) -> String {
        format!("{}-{}/{name}", self.name, self.version)
    }
}

/// Those with suites of tests, of this release of Debian and of the next.
pub const PACKAGES: [SourcePackage; 4] = [
    SourcePackage { name: "strongswan", version: "5.9.8" },
    SourcePackage { name: "strongswan", version: "6.0.1" },
    SourcePackage { name: "libreswan", version: "5.2" },
    SourcePackage { name: "openiked", version: "7.4" },
];

/// Where sources are, of this release and of the next: what was mended for security may be gone from the first place.
const RELEASES: [(&str, &str); 4] =
    [("debian", "bookworm"), ("debian", "trixie"), ("debian-security", "bookworm-security"), ("debian-security", "trixie-security")];
const KEYRING: &str = "/usr/share/keyrings/debian-archive-keyring.gpg";
const MIRROR: &str = "http://deb.debian.org";

fn succeeded(output: std::io::Result<Output>, what: &str) -> Result<String, String> {
    let output = output.map_err(|error| format!("{what}: {error}"))?;
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    if output.status.success() { Ok(text(&output.stdout)) } else { Err(format!("{what}: {}", text(&output.stderr).trim())) }
}

/// Lists of source packages that have nothing to do with those of the machine.
fn apt(cache: &Path) -> Command {
    let mut command = Command::new("apt-get");
    let folder = |name: &str| cache.join(name).display().to_string();
    for (key, value) in [
        ("Dir::Etc::sourcelist", folder("sources.list")),
        ("Dir::Etc::sourceparts", "/dev/null".to_owned()),
        ("Dir::State::lists", folder("lists")),
        ("Dir::Cache", folder("apt")),
        ("APT::Sandbox::User", "root".to_owned()),
    ] {
        command.arg("-o").arg(format!("{key}={value}"));
    }
    command.current_dir(cache);
    command
}

/// The folder of a source package, which is fetched where it is not there.
///
/// # Errors
/// Why it cannot be had.
pub fn folder(package: &SourcePackage) -> Result<PathBuf, String> {
    let cache = uspan_lab::default_cache().join("sources");
    let there = cache.join(format!("{}-{}", package.name, package.version));
    if there.is_dir() {
        return Ok(there);
    }
    for folder in ["lists/partial", "apt/archives/partial"] {
        fs::create_dir_all(cache.join(folder)).map_err(|error| error.to_string())?;
    }
    let lines = RELEASES.map(|(archive, release)| format!("deb-src [signed-by={KEYRING}] {MIRROR}/{archive} {release} main\n"));
    fs::write(cache.join("sources.list"), lines.concat()).map_err(|error| error.to_string())?;
    succeeded(apt(&cache).args(["-q", "update"]).output(), "apt-get update")?;
    let known = RELEASES.iter().filter_map(|(_, release)| {
        let asked = format!("{}/{release}", package.name);
        succeeded(apt(&cache).args(["-q", "--print-uris", "source", &asked]).output(), &asked).ok()
    });
    // 'URL' FILE SIZE SHA256:HASH
    let uris: Vec<String> = known.flat_map(|text| text.lines().map(str::to_owned).collect::<Vec<_>>()).collect();
    let start = format!("{}_{}.orig.tar.", package.name, package.version);
    let words = uris.iter().map(|line| line.split_whitespace().collect::<Vec<_>>());
    let of_sources = |words: &Vec<&str>| matches!(words.as_slice(), [_, file, _, hash] if file.starts_with(&start) && !file.ends_with(".asc") && hash.contains(':'));
    let mut last = format!("no release of Debian has {start}*");
    let file = words.filter(of_sources).find_map(|words| {
        let [url, file, _, hash] = words[..] else { return None };
        let fetched = Command::new("/usr/lib/apt/apt-helper")
            .args(["-o", "APT::Sandbox::User=root", "download-file", url.trim_matches('\''), file, hash])
            .current_dir(&cache)
            .output();
        succeeded(fetched, file).map_err(|why| last = why).ok().map(|_| file.to_owned())
    });
    let Some(file) = file else { return Err(last) };
    // Whole, or not at all.
    let unpacked = cache.join(format!("unpacking-{}", package.name));
    let _ = fs::remove_dir_all(&unpacked);
    fs::create_dir_all(&unpacked).map_err(|error| error.to_string())?;
    succeeded(Command::new("tar").arg("xf").arg(cache.join(&file)).arg("-C").arg(&unpacked).output(), "tar")?;
    let inner = fs::read_dir(&unpacked).ok().and_then(|mut all| all.next()?.ok()).ok_or("an empty package")?;
    fs::rename(inner.path(), &there).map_err(|error| error.to_string())?;
    Ok(there)
}
