//! What a gateway's programs ask of the manager of its services, the lab does: it has the processes.

use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::process::{Child, Command};
use std::thread::sleep;
use std::time::Duration;

use super::StagedGateway;

/// Where the two meet, in the gateway's own `/run`.
const MEETING: &str = "/run/uspan-lab";

/// What stands for systemctl(1) there.
const SYSTEMCTL: &str = r#"#!/bin/sh
meeting=/run/uspan-lab
verb=$1
for service; do :; done
case $verb in
is-active) [ -e "$meeting/active-$service" ] ;;
enable) mkdir -p /var/lib/uspan-lab && : >"/var/lib/uspan-lab/$service" ;;
start | restart | stop | reload)
	echo "$verb $service" >"$meeting/asking"
	mv "$meeting/asking" "$meeting/asked"
	while [ -e "$meeting/asked" ]; do sleep 0.05; done
	[ "$(cat "$meeting/came")" = 0 ]
	;;
esac
"#;

/// Puts it there. Runs in the gateway's room.
///
/// # Errors
/// On a failure of the file system.
pub(super) fn furnish() -> io::Result<()> {
    // As where the manager runs.
    fs::create_dir_all("/run/systemd/system")?;
    fs::create_dir_all(MEETING)?;
    let program = Path::new(MEETING).join("systemctl");
    fs::write(&program, SYSTEMCTL)?;
    fs::set_permissions(program, fs::Permissions::from_mode(0o755))
}

/// Notes that a service runs.
///
/// # Errors
/// On a failure of the file system.
pub fn mark_active(gateway: &StagedGateway, service: &str) -> io::Result<()> {
    let mark = format!("{MEETING}/active-{service}");
    gateway.room.run(move || fs::write(mark, ""))
}

/// Whether a service was told to run after each boot.
pub fn is_enabled(gateway: &StagedGateway, service: &str) -> bool {
    let mark = format!("/var/lib/uspan-lab/{service}");
    gateway.room.run(move || Path::new(&mark).exists())
}

/// Does what the gateway's programs ask of services just now: verb and service, and whether it was done.
///
/// # Errors
/// On a failure of the file system.
pub fn serve(gateway: &StagedGateway, mut done: impl FnMut(&str, &str) -> io::Result<bool>) -> io::Result<()> {
    let asked = gateway.room.run(|| fs::read_to_string(format!("{MEETING}/asked")).unwrap_or_default());
    let Some((verb, service)) = asked.trim().split_once(' ') else { return Ok(()) };
    let fine = done(verb, service)?;
    let mark = format!("{MEETING}/active-{service}");
    let (runs, came) = (fine && verb != "stop", if fine { "0" } else { "1" });
    gateway.room.run(move || {
        match runs {
            true => fs::write(mark, "")?,
            false => drop(fs::remove_file(mark)),
        }
        fs::write(format!("{MEETING}/came"), came)?;
        fs::remove_file(format!("{MEETING}/asked"))
    })
}

/// Starts the gateway's program; what it prints goes to the end of the log.
///
/// # Errors
/// When it cannot be run.
pub fn begin_program(gateway: &StagedGateway, log: &Path, args: &str) -> io::Result<Child> {
    let out = fs::OpenOptions::new().create(true).append(true).open(log)?;
    let mut command = Command::new("sh");
    let program = gateway.delivery.join(uspan_core::PROGRAM);
    let line = format!("PATH=/run/uspan-lab:$PATH; export PATH; exec sh \"$0\" {args}");
    command.args(["-c", &line]).arg(program);
    command.stdin(std::process::Stdio::null()).stdout(out.try_clone()?).stderr(out);
    gateway.room.start(command)
}

/// Runs the gateway's program to its end, and does what it asks of services. Whether it succeeded, and what it printed.
///
/// # Errors
/// When it cannot be run, or on a failure of the file system.
pub fn run_program(
    gateway: &StagedGateway,
    log: &Path,
    args: &str,
    mut done: impl FnMut(&str, &str) -> io::Result<bool>,
) -> io::Result<(bool, String)> {
    let before = fs::metadata(log).map_or(0, |meta| meta.len());
    let mut child = begin_program(gateway, log, args)?;
    let status = loop {
        if let Some(status) = child.try_wait()? {
            break status;
        }
        serve(gateway, &mut done)?;
        sleep(Duration::from_millis(20));
    };
    let text = fs::read(log).unwrap_or_default();
    let new = text.get(usize::try_from(before).unwrap_or(0)..).unwrap_or_default();
    Ok((status.success(), String::from_utf8_lossy(new).into_owned()))
}
