//! A root file system of Debian, configured without privileges, judged by its own programs: with
//! each of its ways to manage networks. It is made by debootstrap at test time, which takes minutes
//! and a package server, so it runs only with PINEWRIT_DEBOOTSTRAP=1.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use common::Bench;

const PACKAGES: &str = "systemd-sysv,openssh-server,sudo,ifupdown,netplan.io,network-manager,\
    wpasupplicant,locales,dbus,libpam-systemd,iproute2";
const KEY: &str = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAb9MsVG9TcFdPwLXuH/UNdhxHvaT6Psj6JXHyGGtoNp \
    warden@larkfell-valley";
const PASSWORD: &str = "correct horse made up";
/// Where the only partition of the layout begins.
const START: u64 = 1 << 20;

/// A user who may do nothing.
const PLAIN_USER: &str = "1234";

fn settings() -> String {
    format!(
        "hostname = \"larkfell-03\"\ntimezone = \"Europe/Vienna\"\nlocale = \"de_AT.UTF-8\"\n\
         keyboard = \"de\"\nswap = \"32MiB\"\n\
         [[users]]\nname = \"warden\"\nsudo = true\ngroups = [\"dialout\", \"gauges\"]\n\
         ssh-keys = [\"{KEY}\"]\n[[users]]\nname = \"j.doe\"\npassword-env = \"HUT\"\nsudo = true\n\
         [ssh]\nenabled = true\npassword-login = false\nport = 2222\n\
         [[wired]]\ninterface = \"eth0\"\naddresses = [\"10.77.3.10/24\", \"fd00:77:3::10/64\"]\n\
         gateway = [\"10.77.3.1\", \"fd00:77:3::1\"]\ndns = [\"10.77.0.53\"]\n\
         search = [\"larkfell.example\"]\nroutes = [\"10.78.0.0/16 via 10.77.3.2\"]\n\
         [[wired]]\ninterface = \"eth0\"\nvlan = 20\naddresses = [\"10.79.3.10/24\"]\n\
         [[wired]]\ninterface = \"eth1\"\n[wireless]\ncountry = \"AT\"\n\
         [[wireless.networks]]\nssid = \"larkfell \\\"valley\\\"\"\npriority = 5\n\
         passphrase = \"made-up sample passphrase\"\n\
         [[wireless.networks]]\nssid = \"larkfell-3\"\nsecurity = \"wpa3\"\nhidden = true\n\
         passphrase = \"made-up \\\"sample words\"\n\
         [first-start]\ncommands = [\"echo 'it is up'\"]\n"
    )
}

/// A mounted root file system.
struct Root {
    at: PathBuf,
    image: PathBuf,
}

impl Root {
    fn mount(bench: &Bench, image: &str) -> Self {
        let at = bench.path("root");
        fs::create_dir_all(&at).unwrap();
        let options = format!("loop,offset={START}");
        let mut mounted = false;
        // Another test may have taken the loop device in between.
        for _ in 0..5 {
            let run = bench
                .judge("mount", &["-o", &options, image, "root"])
                .unwrap();
            mounted = run.code == 0;
            if mounted {
                break;
            }
        }
        assert!(mounted, "{image} cannot be mounted");
        fs::create_dir_all(at.join("run/sshd")).unwrap();
        Self {
            at,
            image: bench.path(image),
        }
    }

    fn output(&self, program: &str, args: &[&str]) -> Output {
        let mut command = Command::new("chroot");
        command.arg(&self.at).arg(program).args(args);
        command
            .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
            .output()
            .unwrap()
    }

    /// Runs a program of the system itself, which must be content.
    fn judge(&self, program: &str, args: &[&str]) -> String {
        let output = self.output(program, args);
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        let told = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(output.status.success(), "{program} {args:?}: {said}{told}");
        told + &said
    }

    fn files(&self, folder: &str) -> Vec<PathBuf> {
        let entries = fs::read_dir(self.at.join(folder)).unwrap();
        let mut files: Vec<_> = entries.map(|entry| entry.unwrap().path()).collect();
        files.sort();
        files
    }
}

impl Drop for Root {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg(&self.at).status();
        // Half a gigabyte each: five of them at once are too much for a small machine.
        let _ = fs::remove_file(&self.image);
    }
}

/// An archive of Debian's root, or `None` where nobody asks for this test.
fn archive(bench: &Bench) -> Option<()> {
    if std::env::var_os("PINEWRIT_DEBOOTSTRAP").is_none() {
        common::say_skipped("PINEWRIT_DEBOOTSTRAP");
        return None;
    }
    let include = format!("--include={PACKAGES}");
    let made = bench.judge(
        "debootstrap",
        &[
            "--variant=minbase",
            &include,
            "bookworm",
            "tree",
            "http://deb.debian.org/debian",
        ],
    )?;
    if made.code != 0 {
        // A server that does not answer is nobody's mistake here.
        common::say_skipped(&format!("package server: {}", made.stderr));
        return None;
    }
    bench
        .judge("tar", &["-C", "tree", "-cf", "root.tar", "."])?
        .expect(0);
    fs::remove_dir_all(bench.path("tree")).unwrap();
    bench.write(
        "layout.toml",
        "[medium]\nscheme = \"gpt\"\n[[partition]]\nsize = \"rest\"\nfilesystem = \"ext4\"\n\
         [[partition.content]]\nfrom = \"root.tar\"\n",
    );
    bench
        .run(&["build", "layout.toml", "--to", "base.img", "--size", "2GiB"])
        .expect(0);
    fs::remove_file(bench.path("root.tar")).unwrap();
    bench.write("hut.toml", settings());
    Some(())
}

/// Configures a copy without privileges, without some of its programs.
fn configured(bench: &Bench, name: &str, without: &[&str]) -> Root {
    let image = format!("{name}.img");
    bench
        .judge("cp", &["--sparse=always", "base.img", &image])
        .unwrap()
        .expect(0);
    for path in without {
        let place = format!("root:{path}");
        bench
            .run(&["files", "remove", &image, &place, "--yes"])
            .expect(0);
    }
    bench
        .judge("chown", &[PLAIN_USER, &image])
        .unwrap()
        .expect(0);
    bench.judge("chmod", &["a+rx", "."]).unwrap().expect(0);
    let state = bench.path(&format!("state-{name}"));
    fs::create_dir_all(&state).unwrap();
    std::os::unix::fs::chown(&state, Some(1234), None).unwrap();
    let mut command = Command::new("setpriv");
    command.args(["--reuid", PLAIN_USER, "--clear-groups", "--inh-caps=-all"]);
    command.arg(env!("CARGO_BIN_EXE_pinewrit"));
    command.args(["configure", &image, "--settings", "hut.toml"]);
    command
        .current_dir(bench.folder())
        .env("XDG_STATE_HOME", &state);
    let output = command.env("HUT", PASSWORD).output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{said}");
    let at = format!("{image}?offset={START}");
    bench.judge("e2fsck", &["-fn", &at]).unwrap().expect(0);
    Root::mount(bench, &image)
}

/// What holds whatever manages the networks.
fn judge_all(root: &Root) {
    root.judge("sshd", &["-t"]);
    let told = root.judge("sshd", &["-T"]);
    assert!(told.contains("port 2222\n") && !told.contains("port 22\n"));
    assert!(told.contains("passwordauthentication no"));
    root.judge("visudo", &["-c"]);
    root.judge("grpck", &["-r"]);
    // It complains of folders that the packages leave out, but of nobody's here.
    let told = String::from_utf8(root.output("pwck", &["-r"]).stdout).unwrap();
    assert!(
        !told.contains("warden") && !told.contains("j.doe"),
        "{told}"
    );
    let id = root.judge("id", &["warden"]);
    assert!(
        id.contains("uid=1000(warden)") && id.contains("(gauges)"),
        "{id}"
    );
    let mode = root.judge(
        "stat",
        &["-c", "%U %a", "/home/warden/.ssh/authorized_keys"],
    );
    assert_eq!(mode.trim(), "warden 600");
    assert_eq!(root.judge("cat", &["/etc/hostname"]), "larkfell-03\n");
    let enabled = root.judge("systemctl", &["is-enabled", "ssh", "pinewrit-first-start"]);
    assert_eq!(enabled.matches("enabled").count(), 2, "{enabled}");
    let unit = "/etc/systemd/system/pinewrit-first-start.service";
    root.judge("systemd-analyze", &["verify", unit]);
    root.judge("sh", &["-n", "/var/lib/pinewrit/first-start"]);
    assert_eq!(
        root.judge("readlink", &["/etc/localtime"]),
        "/usr/share/zoneinfo/Europe/Vienna\n"
    );
    assert!(
        root.judge("cat", &["/etc/locale.gen"])
            .contains("\nde_AT.UTF-8 UTF-8\n")
    );
    // The C library finds the password right.
    let is_right = format!(
        "my $hash = (getpwnam 'j.doe')[1]; exit(crypt('{PASSWORD}', $hash) eq $hash ? 0 : 1)"
    );
    root.judge("perl", &["-e", &is_right]);
    // The locale can be made, and is used then.
    root.judge("locale-gen", &[]);
    assert!(root.judge("locale", &["-a"]).contains("de_AT.utf8"));
    let may = root.judge("sudo", &["-l", "-U", "j.doe"]);
    assert!(may.contains("(ALL : ALL) ALL"), "{may}");
}

/// wpa_supplicant reads its file before it looks for the interface, which is not there.
fn judge_supplicant(root: &Root, path: &str) {
    let args = ["-c", path, "-i", "none0", "-D", "wired", "-dd"];
    let output = root.output("wpa_supplicant", &args);
    let told = String::from_utf8_lossy(&output.stdout).into_owned();
    assert_eq!(
        told.matches("start of a new network block").count(),
        2,
        "{told}"
    );
    assert!(!told.contains("Failed to read or parse"), "{told}");
    assert!(
        !told.contains("Line:") || !told.contains("unknown"),
        "{told}"
    );
}

#[test]
fn debians_own_programs_are_content() {
    let bench = Bench::new();
    if archive(&bench).is_none() {
        return;
    }
    let manager = "/usr/sbin/NetworkManager";
    for (name, without, folder) in [
        ("netplan", &[][..], "run/NetworkManager/system-connections"),
        ("netplan-networkd", &[manager][..], "run/systemd/network"),
    ] {
        let root = configured(&bench, name, without);
        judge_all(&root);
        root.judge("netplan", &["generate", "--root-dir", "/"]);
        let made = root.files(folder);
        let is_made = |name: &str| {
            made.iter()
                .any(|path| path.to_string_lossy().contains(name))
        };
        assert!(is_made("eth0.20") && is_made("netplan-wlan0"), "{made:?}");
    }

    let netplan = "/usr/sbin/netplan";
    let root = configured(&bench, "keyfiles", &[netplan]);
    judge_all(&root);
    let keyfiles = root.files("etc/NetworkManager/system-connections");
    assert_eq!(keyfiles.len(), 5);
    for path in keyfiles {
        let inside = Path::new("/").join(path.strip_prefix(&root.at).unwrap());
        let read = format!(
            "nmcli --offline connection modify connection.autoconnect yes < '{}'",
            inside.display()
        );
        root.judge("sh", &["-c", &read]);
    }
    drop(root);

    let root = configured(&bench, "ifupdown", &[netplan, manager]);
    judge_all(&root);
    let listed = root.judge("ifquery", &["--list", "--all"]);
    assert_eq!(listed, "lo\neth0\neth0.20\neth1\n");
    assert!(
        root.judge("ifquery", &["eth0"])
            .contains("gateway: 10.77.3.1")
    );
    judge_supplicant(&root, "/etc/wpa_supplicant/wpa_supplicant.conf");
    drop(root);

    let root = configured(&bench, "networkd", &[netplan, manager, "/usr/sbin/ifup"]);
    judge_all(&root);
    let names = ["systemd-networkd", "wpa_supplicant@wlan0"];
    let enabled = root.judge("systemctl", &[&["is-enabled"], &names[..]].concat());
    assert_eq!(enabled.matches("enabled").count(), 2, "{enabled}");
    judge_supplicant(&root, "/etc/wpa_supplicant/wpa_supplicant-wlan0.conf");
}
