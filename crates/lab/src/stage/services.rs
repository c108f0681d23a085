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

/// Runs the gateway's program to its end, and does what it asks of services: verb and service, and whether it was done.
///
/// # Errors
/// When it cannot be run, or on a failure of the file system.
pub fn run_program(
    gateway: &StagedGateway,
    log: &Path,
    mut serve: impl FnMut(&str, &str) -> io::Result<bool>,
) -> io::Result<(bool, String)> {
    let out = fs::OpenOptions::new().create(true).append(true).open(log)?;
    let mut command = Command::new("sh");
    let program = gateway.delivery.join(uspan_core::PROGRAM);
    command.args(["-c", "PATH=/run/uspan-lab:$PATH; export PATH; exec sh \"$0\" --replace"]).arg(program);
    command.stdin(std::process::Stdio::null()).stdout(out.try_clone()?).stderr(out);
    let mut child: Child = gateway.room.start(command)?;
    let status = loop {
        if let Some(status) = child.try_wait()? {
            break status;
        }
        let asked = gateway.room.run(|| fs::read_to_string(format!("{MEETING}/asked")).unwrap_or_default());
        if let Some((verb, service)) = asked.trim().split_once(' ') {
            let done = serve(verb, service)?;
            if done && verb != "stop" {
                mark_active(gateway, service)?;
            }
            let came = if done { "0" } else { "1" };
            gateway
                .room
                .run(move || fs::write(format!("{MEETING}/came"), came).and_then(|()| fs::remove_file(format!("{MEETING}/asked"))))?;
        }
        sleep(Duration::from_millis(20));
    };
    Ok((status.success(), fs::read_to_string(log).unwrap_or_default()))
}
