//! The sandbox: a tree that somebody tampered with is proven, and the machine is as before.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;

use crate::common::{SECRET, uspan, write};
use crate::{boot, machine_in_the_machine, turn};

/// An end with an interface, whose file has commands that a shell runs as root.
const DESCRIPTION: &str = r#"unified-span = 1
[site.packhouse]
platform = "strongswan"
style = "route-based"
gateway = { address = "198.51.100.20", outside = "wan0", inside = "lan0" }
networks = { office = "10.41.0.0/22" }
[site.coldstore]
platform = "libreswan"
gateway = { address = "203.0.113.77", outside = "eth0", inside = "eth1" }
networks = { racks = "10.73.16.0/20" }
[tunnel.harvest]
between = ["packhouse", "coldstore"]
secret = { file = "k" }
"#;

/// Everything that was thought of to get out: writing where the machine's files are, making them writable, mounting what is below
/// them, devices, switches of the kernel, and putting links where the run's results are read. `true` in the end, so that the tunnel
/// comes up all the same.
const EVIL: &str = "pre-up sh -c \"M=PWNED; mount -o remount,rw /; mount -o remount,rw,bind /; mount -o remount,rw /etc; umount -l /root /home /var/tmp; \
mkdir -p /run/h; mount -t hostfs none /run/h -o /; touch /run/h/root/\\$M /run/h/\\$M; for d in / /root /home /etc /usr /usr/local /var /var/cache /var/tmp /tmp /run /opt /srv /dev /dev/shm; do touch \\$d/\\$M; done; \
for p in 1 \\$PPID; do touch /proc/\\$p/root/root/\\$M /proc/\\$p/cwd/\\$M; done; dd if=/dev/zero of=/dev/vda bs=1 count=1; mknod /run/disk b 254 0; dd if=/dev/zero of=/run/disk bs=1 count=1; \
echo 1 > /proc/sys/kernel/panic_on_oops; echo x > /proc/sys/kernel/core_pattern; sysctl -w kernel.hostname=PWNED; hostname PWNED; \
nsenter -t 1 -m touch /root/\\$M; chroot /proc/1/root touch /root/\\$M; kill -9 1; \
for f in /tmp/uspan-run /var/tmp/uspan-prove-*; do ln -sf /etc/shadow \\$f/logs/0/evil.log; mkfifo \\$f/logs/0/pipe.log; rm -f \\$f/events; ln -sf /etc/hostname \\$f/events; ls -laR \\$f; done; \
curl -m 2 http://1.1.1.1/; true\"";

/// What ends a guest, whose kernel is nobody else's, and must do nothing to a machine's.
const CRASH: &str = "pre-up sh -c \"echo c > /proc/sysrq-trigger; echo b > /proc/sysrq-trigger; true\"";

fn lay_out(folder: &Path, commands: &[&str]) {
    write(&folder.join("k"), format!("{SECRET}\n"), 0o600);
    write(&folder.join("x.span.toml"), DESCRIPTION, 0o644);
    let built = uspan(folder, &["build", "x.span.toml", "-o", "out"]);
    assert_eq!(built.code, 0, "{}", built.all());
    let path = folder.join("out/packhouse/etc/network/interfaces.d/uspan-harvest");
    let text = fs::read_to_string(&path).expect("read");
    fs::write(&path, format!("{text}\t{}\n", commands.join("\n\t"))).expect("written");
}

/// Where other programs write, or other tests.
const SHARED: [&str; 9] = ["/run", "/tmp", "/var/tmp", "/var/log", "/var/cache", "/var/lib", "/dev", "/root", "/home"];

/// What the tree makes is called so.
const MARKS: [&str; 5] = ["PWNED", "evil.log", "pipe.log", "h", "disk"];

/// Everything on the machine outside of a few folders that others use meanwhile: kind, mode, owner, size, times.
fn machine() -> BTreeMap<String, String> {
    let mut all = BTreeMap::new();
    let mut open: Vec<_> =
        ["/bin", "/boot", "/dev", "/etc", "/home", "/lib", "/media", "/mnt", "/opt", "/root", "/run", "/sbin", "/srv", "/usr", "/var"]
            .map(Into::into)
            .to_vec();
    open.push("/tmp".into());
    let passed_over = ["/dev/pts", "/dev/shm", "/proc", "/sys", "/root/.cargo", "/root/.cache"];
    while let Some(folder) = open.pop() {
        let folder: std::path::PathBuf = folder;
        for entry in fs::read_dir(&folder).into_iter().flatten().flatten() {
            let (path, Ok(meta)) = (entry.path(), entry.metadata()) else { continue };
            let name = path.to_string_lossy().into_owned();
            // Folders of this and other tests.
            if passed_over.iter().any(|skip| path.starts_with(skip)) || name.contains("uspan-test-") || name.contains("/.tmp") {
                continue;
            }
            let dir = meta.is_dir();
            // Where others write meanwhile, what the tree would leave shows by its name.
            let shared = SHARED.iter().any(|folder| path.starts_with(folder));
            let marked = path.file_name().is_some_and(|name| MARKS.iter().any(|mark| name == *mark));
            if !shared || marked {
                all.insert(
                    name,
                    format!("{:o} {}:{} {} {} {}", meta.mode(), meta.uid(), meta.gid(), meta.len(), meta.mtime(), meta.ctime()),
                );
            }
            if dir && !meta.is_symlink() {
                open.push(path);
            }
        }
    }
    all
}

fn differences(before: &BTreeMap<String, String>, after: &BTreeMap<String, String>) -> Vec<String> {
    let gone = before.iter().filter(|(path, _)| !after.contains_key(*path)).map(|(path, _)| format!("gone {path}"));
    let new = after.iter().filter(|(path, value)| before.get(*path) != Some(value));
    gone.chain(new.map(|(path, value)| format!("{path}: {value}, before {:?}", before.get(path)))).collect()
}

/// Without the switch nothing runs; the statement is named. With it, it runs, comes to nothing, and is named again.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn a_tampered_tree_writes_nothing_to_the_machine() {
    let _turn = turn();
    let folder = tempfile::Builder::new().prefix("uspan-test-").tempdir_in("/var/tmp").expect("a folder");
    lay_out(folder.path(), &[EVIL]);
    let named = |text: &str| text.contains("US954") && text.contains("interfaces.d/uspan-harvest:14");
    let before = machine();
    let host = fs::read_to_string("/proc/sys/kernel/hostname").expect("a name");
    let run = uspan(folder.path(), &["prove", "x.span.toml", "--built", "out"]);
    assert_eq!(run.code, 1, "{}", run.all());
    assert!(named(&run.stderr) && run.stdout.contains("Nothing was run"), "{}", run.all());
    let json = uspan(folder.path(), &["prove", "x.span.toml", "--built", "out", "--format", "json"]).json();
    assert_eq!(json["findings"][0]["code"], "US954", "{json:#}");
    let run = uspan(folder.path(), &["prove", "x.span.toml", "--built", "out", "--with-changes", "--keep", "kept"]);
    assert!(run.code == 1 || run.code == 3, "what was planted is not passed over: {}", run.all());
    assert!(named(&run.stderr) && run.all().contains("Not proven"), "{}", run.all());
    assert_eq!(differences(&before, &machine()), Vec::<String>::new());
    assert_eq!(fs::read_to_string("/proc/sys/kernel/hostname").expect("a name"), host);
    // Nothing of the machine's was taken along with the logs either.
    for file in crate::common::files(&folder.path().join("kept")) {
        let meta = fs::symlink_metadata(&file).expect("there");
        assert!(meta.is_file() && meta.mode() & 0o777 == 0o600, "{}", file.display());
        let text = fs::read(&file).expect("read");
        let text = String::from_utf8_lossy(&text);
        let taken = text.lines().find(|line| line.trim_start().starts_with("root:"));
        assert_eq!(taken, None, "a line of the machine's passwords in {}", file.display());
    }
}

/// The same where the machine's own kernel is used: the guest kernel plays a machine that has files of its own.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn a_tampered_tree_writes_nothing_to_a_machine_whose_kernel_is_used() {
    let _turn = turn();
    let Some((kernel, folder)) = machine_in_the_machine() else { return };
    let path = folder.path();
    lay_out(path, &[CRASH, EVIL]);
    fs::create_dir(path.join("came")).expect("made");
    // Folders that can be written to, with something in them: what a machine's root has.
    let script = format!(
        "#!/bin/sh\nexport PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME=/root\n\
         mount -t proc proc /proc; mount -t sysfs sys /sys\n\
         mount -t hostfs none /mnt -o {0}\n\
         for d in /run /tmp /var/tmp /root /home /srv /opt /usr/local /var/cache/apt; do mount -t tmpfs t $d; echo precious > $d/keep; done\n\
         mkdir /run/x /run/came; cp -a /mnt/k /mnt/x.span.toml /mnt/out /mnt/uspan /run/x; umount /mnt; cd /run/x\n\
         mount -t hostfs none /run/came -o {0}/came\n\
         list() {{ for d in /run /tmp /var/tmp /root /home /srv /opt /usr/local /etc /var/cache/apt; do find $d -path /run/came -prune -o -path /run/x/kept -prune -o -printf '%p %y %m %U:%G %s %T@\\n'; done | grep -v '^/run/x d\\|^/run d\\|^/var/tmp d' | sort; hostname; cat /proc/sys/kernel/core_pattern; }}\n\
         list > /run/came/before\n\
         ./uspan prove x.span.toml --built out --with-changes --keep kept > /run/came/said 2> /run/came/errors; echo \"exit $?\" >> /run/came/said\n\
         list > /run/came/after\n\
         ls -l kept/* >> /run/came/kept\n\
         sync; echo o > /proc/sysrq-trigger\nsleep 9\n",
        path.display(),
    );
    fs::copy(env!("CARGO_BIN_EXE_uspan"), path.join("uspan")).expect("copied");
    let init = path.join("init");
    write(&init, script, 0o755);
    let before = machine();
    let console = boot(&kernel, path, &init);
    let read = |name: &str| fs::read_to_string(path.join("came").join(name)).unwrap_or_else(|error| panic!("{name}: {error}\n{console}"));
    let (said, errors) = (read("said"), read("errors"));
    assert!(said.contains("on this machine's own kernel"), "{said}{errors}");
    assert!(said.contains("exit 1") || said.contains("exit 3"), "{said}{errors}");
    assert!(errors.contains("US954"), "{errors}");
    let (one, other) = (read("before"), read("after"));
    let lines = |text: &str| text.lines().map(|line| (line.to_owned(), String::new())).collect::<BTreeMap<_, _>>();
    assert_eq!(differences(&lines(&one), &lines(&other)), Vec::<String>::new(), "{said}{errors}");
    assert!(one.contains("/root/keep") && one.lines().count() > 100, "{one}");
    assert_eq!(differences(&before, &machine()), Vec::<String>::new());
}
