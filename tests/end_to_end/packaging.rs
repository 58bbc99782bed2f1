//! What is installed: a package with units, options, pages and completions.

use std::{fs, process::Command};

use crate::quay::{KESMO, all_said, assert_says, repository, text};

#[test]
fn a_package_has_all_that_a_machine_needs_and_its_units_are_sound() {
    let dir = tempfile::tempdir().expect("a folder");
    let package = dir.path().join("kesmo.deb");
    let mut make = Command::new(repository("packaging/package-deb"));
    let made = make.arg(KESMO).arg(&package).env("KESMO_DEB_COMPRESSION", "none").output().expect("it runs");
    assert!(made.status.success(), "{}", all_said(&made));
    let deb = |words: &[&str]| {
        let output = Command::new("dpkg-deb").args(words).arg(&package).output().expect("dpkg-deb runs");
        assert!(output.status.success(), "{}", all_said(&output));
        text(&output.stdout)
    };
    assert_says(
        &deb(&["--info"]),
        &["Package: kesmo", &format!("Version: {}", env!("CARGO_PKG_VERSION")), "Depends: libc6", "conffiles"],
    );
    let content = deb(&["--contents"]);
    for wanted in [
        "-rwxr-xr-x root/root",
        "./usr/bin/kesmo",
        "./usr/lib/systemd/system/kesmo-service.service",
        "./usr/lib/systemd/system/kesmo-worker.service",
        "./usr/lib/sysusers.d/kesmo.conf",
        "./etc/kesmo/service.toml",
        "./usr/share/man/man1/kesmo-suite-add.1.gz",
        "./usr/share/bash-completion/completions/kesmo",
        "./usr/share/doc/kesmo/security.md",
    ] {
        assert!(content.contains(wanted), "{wanted} in {content}");
    }
    // As it is unpacked, the program runs, and takes the options that come with it.
    let root = dir.path().join("root");
    let unpacked = Command::new("dpkg-deb").arg("--extract").arg(&package).arg(&root).status().expect("it runs");
    assert!(unpacked.success());
    let options = root.join("etc/kesmo/service.toml");
    let own = fs::read_to_string(&options)
        .expect("the options")
        .replace("/var/lib/kesmo", &dir.path().join("data").display().to_string());
    fs::write(&options, own.replace("127.0.0.1:7215", "127.0.0.1:0")).expect("they are written");
    let mut check = Command::new(root.join("usr/bin/kesmo"));
    let checked = check.args(["serve", "--check", "--config"]).arg(&options).output().expect("it runs");
    assert!(checked.status.success(), "{}", all_said(&checked));
    // What stands in remarks there is of options that there are.
    let all: String = fs::read_to_string(repository("packaging/service.toml"))
        .expect("the options")
        .lines()
        .filter_map(|line| line.strip_prefix("# ").filter(|line| line.contains(" = ")).map(|line| format!("{line}\n")))
        .collect();
    fs::write(&options, all.replace("/etc/kesmo/kesmo", "/nowhere/kesmo")).expect("they are written");
    let mut check = Command::new(root.join("usr/bin/kesmo"));
    let checked = check.args(["serve", "--check", "--config"]).arg(&options).output().expect("it runs");
    assert_says(&all_said(&checked), &["/nowhere/kesmo.pem"]);
    assert!(!all_said(&checked).contains("there is no option"), "{}", all_said(&checked));
    let Ok(verify) = Command::new("systemd-analyze").arg("--version").output() else { return };
    assert!(verify.status.success());
    for unit in ["kesmo-service", "kesmo-worker"] {
        let path = root.join(format!("usr/lib/systemd/system/{unit}.service"));
        let own = fs::read_to_string(&path).expect("the unit").replace("/usr/bin/kesmo", KESMO);
        fs::write(&path, own).expect("it is written");
        let verified =
            Command::new("systemd-analyze").args(["verify", "--man=no"]).arg(&path).output().expect("it runs");
        assert!(verified.status.success() && verified.stderr.is_empty(), "{unit}: {}", all_said(&verified));
    }
}
