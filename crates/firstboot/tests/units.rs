//! Units as practitioners ask for them: bridges, bonds, accounts in wireless networks, automatic login; and
//! settings that are dropped, on a unit that has started since.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use common::texts::checked;
use common::{KEY, MIB, NOW, prepare, root_options, settings};
use pinewrit_disk::{BlockDevice, MemoryDevice};
use pinewrit_ext4::{Attributes, Zeros, make};
use pinewrit_firstboot::configure::ConfigureReport;
use pinewrit_settings::CheckedSettings;
use pinewrit_volume::files::{Rights, open_to_change, open_to_read};
use rstest::rstest;

const WAIT: &str = "/etc/systemd/system/systemd-networkd-wait-online.service.d/10-pinewrit.conf";

/// A root file system that has these programs, and a few texts that others use too.
fn root(programs: &[&str]) -> MemoryDevice {
    let device = MemoryDevice::new(48 * MIB as usize);
    make(&device, &root_options()).unwrap().commit().unwrap();
    let texts = [
        ("/etc/passwd", "root:x:0:0:root:/root:/bin/sh\n"),
        ("/etc/shadow", "root:*:20000:0:99999:7:::\n"),
        ("/etc/group", "root:x:0:\nshadow:x:42:\ndialout:x:20:\n"),
        ("/etc/hosts", "127.0.0.1\tlocalhost\n10.77.0.1\tvalley\n"),
        ("/etc/hostname", "larkfell\n"),
        ("/etc/default/locale", "LANG=C.UTF-8\n"),
        (
            "/etc/default/keyboard",
            "XKBLAYOUT=\"us\"\nXKBVARIANT=\"\"\n",
        ),
        (
            "/etc/locale.gen",
            "# de_AT.UTF-8 UTF-8\n# nl_NL.UTF-8 UTF-8\n",
        ),
        ("/etc/fstab", "LABEL=root / ext4 defaults 0 1\n"),
        ("/etc/ssh/sshd_config", "Port 22\n"),
        ("/usr/lib/systemd/systemd", ""),
        ("/usr/lib/systemd/systemd-networkd-wait-online", ""),
        ("/usr/sbin/locale-gen", ""),
        ("/usr/sbin/sshd", ""),
        ("/usr/bin/sudo", ""),
        ("/usr/share/zoneinfo/Europe/Vienna", ""),
    ];
    let own = programs.iter().map(|path| (*path, ""));
    let mut editor = pinewrit_ext4::Editor::open(&device, NOW).unwrap();
    for (path, text) in texts.into_iter().chain(own) {
        let above = path.rsplit_once('/').unwrap().0;
        let folder = Attributes::root(0o755, NOW);
        editor.make_folders(above.as_bytes(), &folder).unwrap();
        let attributes = Attributes::root(0o644, NOW);
        let mut content = text.as_bytes();
        let size = content.len() as u64;
        let path = path.as_bytes();
        let put = editor.write_file(path, &attributes, size, &mut content, Zeros::Written);
        put.unwrap();
    }
    editor.commit().unwrap();
    device
}

const NETWORKD: &[&str] = &[
    "/usr/lib/systemd/systemd-networkd",
    "/usr/lib/systemd/system/systemd-networkd.service",
];
const KEYFILES: &[&str] = &["/usr/sbin/NetworkManager"];
const IFUPDOWN: &[&str] = &["/usr/sbin/ifup", "/usr/sbin/wpa_supplicant"];
const NETPLAN: &[&str] = &["/usr/sbin/netplan"];
const DHCPCD: &[&str] = &["/etc/init.d/dhcpcd"];

fn configure(device: &MemoryDevice, settings: &CheckedSettings) -> ConfigureReport {
    prepare(device, settings).unwrap().commit(None).unwrap()
}

fn text(device: &MemoryDevice, path: &str) -> String {
    open_to_read(device)
        .unwrap()
        .text(path)
        .unwrap()
        .unwrap_or_default()
}

fn there(device: &MemoryDevice, path: &str) -> bool {
    open_to_read(device).unwrap().has_name(path).unwrap()
}

const SECOND: &str = "[[wired]]\ninterface = \"br0\"\nbridge = [\"eth1\", \"eth2\"]\naddresses = [\"10.80.3.10/24\"]\n\
     [[wired]]\ninterface = \"bond0\"\nbond = [\"eth3\", \"eth4\"]\nbond-mode = \"802.3ad\"\n\
     [[wired]]\ninterface = \"bond0\"\nvlan = 20\naddresses = [\"10.79.3.10/24\"]\n\
     [[wired]]\ninterface = \"uplink0\"\nmac = \"02-00-5E-10-00-01\"\nmtu = 1400\noptional = true\n";

#[rstest]
#[case::networkd(NETWORKD, &[
    ("/etc/systemd/network/10-pinewrit-br0.netdev", "Kind=bridge"),
    ("/etc/systemd/network/10-pinewrit-eth1.network", "Bridge=br0"),
    ("/etc/systemd/network/10-pinewrit-bond0.netdev", "Mode=802.3ad"),
    ("/etc/systemd/network/10-pinewrit-eth4.network", "Bond=bond0"),
    ("/etc/systemd/network/10-pinewrit-bond0.network", "VLAN=bond0.20"),
    ("/etc/systemd/network/10-pinewrit-uplink0.network", "MTUBytes=1400\nRequiredForOnline=no"),
    ("/etc/systemd/network/10-pinewrit-uplink0.link", "MACAddress=02:00:5e:10:00:01"),
    (WAIT, "-/usr/lib/systemd/systemd-networkd-wait-online --timeout="),
])]
#[case::keyfiles(KEYFILES, &[
    ("/etc/NetworkManager/system-connections/pinewrit-br0.nmconnection", "type=bridge"),
    ("/etc/NetworkManager/system-connections/pinewrit-eth1.nmconnection", "slave-type=bridge"),
    ("/etc/NetworkManager/system-connections/pinewrit-bond0.nmconnection", "mode=802.3ad"),
    ("/etc/NetworkManager/system-connections/pinewrit-uplink0.nmconnection", "mtu=1400"),
])]
#[case::ifupdown(IFUPDOWN, &[
    ("/etc/network/interfaces.d/pinewrit", "\tbridge_ports eth1 eth2\n"),
    ("/etc/network/interfaces.d/pinewrit", "\tbond-slaves eth3 eth4\n\tbond-mode 802.3ad\n"),
    ("/etc/network/interfaces.d/pinewrit", "\tvlan-raw-device bond0\n"),
    ("/etc/network/interfaces.d/pinewrit", "allow-hotplug uplink0\n"),
    ("/etc/network/interfaces.d/pinewrit", "ip link set dev uplink0 mtu 1400\n"),
])]
#[case::netplan(NETPLAN, &[
    ("/etc/netplan/90-pinewrit.yaml", "bridges:"),
    ("/etc/netplan/90-pinewrit.yaml", "mode: '802.3ad'"),
    ("/etc/netplan/90-pinewrit.yaml", "set-name: 'uplink0'"),
    ("/etc/netplan/90-pinewrit.yaml", "mtu: 1400"),
    (WAIT, "-/usr/lib/systemd/systemd-networkd-wait-online --timeout="),
])]
fn bridges_bonds_and_names(#[case] programs: &[&str], #[case] expected: &[(&str, &str)]) {
    let device = root(programs);
    configure(&device, &settings(SECOND));
    for (path, part) in expected {
        let found = text(&device, path);
        assert!(found.contains(part), "no {part:?} in {path}:\n{found}");
    }
}

#[test]
fn dhcpcd_makes_no_bridges_and_says_so() {
    let device = root(DHCPCD);
    let wish = settings("[wired]\ninterface = \"br0\"\nbridge = [\"eth0\"]\n");
    let error = prepare(&device, &wish).err().unwrap();
    assert!(
        error.to_string().contains("does not support bridge"),
        "{error}"
    );
}

#[rstest]
#[case::whichever("", "--any --timeout=")]
#[case::named("interface = \"eth0\"\n", "-wait-online --timeout=")]
#[case::optional("interface = \"eth0\"\noptional = true\n", "ExecStart=-/bin/true")]
fn what_a_start_waits_for(#[case] lines: &str, #[case] part: &str) {
    let device = root(NETWORKD);
    configure(&device, &settings(&format!("[wired]\n{lines}")));
    let found = text(&device, WAIT);
    assert!(found.contains(part), "{found}");
}

#[rstest]
#[case::networkd(
    NETWORKD,
    "/etc/wpa_supplicant/wpa_supplicant-wlan0.conf",
    "key_mgmt=WPA-EAP"
)]
#[case::keyfiles(
    KEYFILES,
    "/etc/NetworkManager/system-connections/pinewrit-wlan0-1.nmconnection",
    "key-mgmt=wpa-eap"
)]
#[case::netplan(NETPLAN, "/etc/netplan/90-pinewrit.yaml", "key-management: 'eap'")]
fn accounts_in_wireless_networks(
    #[case] programs: &[&str],
    #[case] path: &str,
    #[case] part: &str,
) {
    let device = root(programs);
    let wish = settings(
        "[wireless]\ncountry = \"AT\"\n[[wireless.networks]]\nssid = \"valley\"\nsecurity = \"enterprise\"\n\
         eap = \"peap\"\nidentity = \"larkfell-03\"\npassword-env = \"GOOD\"\n",
    );
    let report = configure(&device, &wish);
    assert!(
        text(&device, path).contains(part),
        "{}",
        text(&device, path)
    );
    let shown = serde_json::to_string(&report).unwrap();
    let secret = "kestrel over scree";
    assert!(
        !shown.contains(secret) && !shown.contains(&hex(secret)),
        "{shown}"
    );
}

fn hex(text: &str) -> String {
    text.bytes().map(|byte| format!("{byte:02x}")).collect()
}

#[test]
fn automatic_login() {
    let device = root(&["/usr/sbin/lightdm", "/etc/gdm3/daemon.conf"]);
    let wish = format!(
        "[[users]]\nname = \"warden\"\nssh-keys = [\"{KEY}\"]\n\
         [autologin]\nuser = \"warden\"\nconsole = true\ndesktop = true\n"
    );
    configure(&device, &settings(&wish));
    let console = "/etc/systemd/system/getty@tty1.service.d/10-pinewrit.conf";
    assert!(text(&device, console).contains("--autologin warden"));
    assert!(text(&device, "/etc/lightdm/lightdm.conf.d/60-pinewrit.conf").contains("=warden"));
    assert!(text(&device, "/etc/gdm3/daemon.conf").contains("AutomaticLogin=warden"));
}

fn first_settings() -> CheckedSettings {
    settings(&format!(
        "hostname = \"larkfell-03\"\ntimezone = \"Europe/Vienna\"\nlocale = \"de_AT.UTF-8\"\n\
         keyboard = \"de\"\nkeyboard-variant = \"nodeadkeys\"\nswap = \"1MiB\"\n\
         [[users]]\nname = \"hilda\"\nssh-keys = [\"{KEY}\"]\ngroups = [\"dialout\"]\n\
         [[users]]\nname = \"warden\"\nuid = 1500\nsudo = \"without-password\"\npassword-env = \"GOOD\"\n\
         [ssh]\nport = 2222\n[first-start]\ncommands = [\"echo a\", {{ run = \"echo b\", network = true }}]\n"
    ))
}

/// What others use too is as it was; what was changed in it since stays.
#[test]
fn settings_that_are_dropped_leave_nothing() {
    let device = root(NETWORKD);
    let watched = [
        "/etc/hostname",
        "/etc/default/locale",
        "/etc/default/keyboard",
        "/etc/locale.gen",
        "/etc/fstab",
        "/etc/ssh/sshd_config",
    ];
    let before: Vec<String> = watched.iter().map(|path| text(&device, path)).collect();
    configure(&device, &first_settings());
    assert_eq!(text(&device, "/etc/hostname"), "larkfell-03\n");
    assert!(text(&device, "/etc/default/keyboard").contains("XKBVARIANT=\"nodeadkeys\""));
    assert!(text(&device, "/etc/passwd").contains("warden:x:1500:1500:"));
    assert!(text(&device, "/etc/sudoers.d/90-warden").contains("NOPASSWD"));
    assert!(there(&device, "/swapfile"));
    // Somebody has added a line since.
    let mut files = open_to_change(&device, NOW).unwrap();
    let hosts = text(&device, "/etc/hosts") + "10.77.0.9\tsummit\n";
    files
        .put("/etc/hosts", Rights::root(0o644), hosts.as_bytes())
        .unwrap();
    files.close().unwrap();

    let nearly_nothing = format!("[[users]]\nname = \"nora\"\nssh-keys = [\"{KEY}\"]\n");
    let report = configure(&device, &settings(&nearly_nothing));
    let after: Vec<String> = watched.iter().map(|path| text(&device, path)).collect();
    assert_eq!(after, before, "{:?}", report.notes);
    assert_eq!(
        text(&device, "/etc/hosts"),
        "127.0.0.1\tlocalhost\n10.77.0.1\tvalley\n10.77.0.9\tsummit\n"
    );
    for path in ["/swapfile", "/etc/localtime", "/etc/sudoers.d/90-warden"] {
        assert!(!there(&device, path), "{path}");
    }
    assert!(text(&device, "/etc/group").contains("dialout:x:20:\n"));
    // Neither former number is given again: their homes are still there.
    let passwd = text(&device, "/etc/passwd");
    assert!(passwd.contains("nora:x:1001:1001:"), "{passwd}");
    // Who comes back has the old number, and the old files.
    configure(&device, &first_settings());
    let passwd = text(&device, "/etc/passwd");
    assert!(passwd.contains("hilda:x:1000:1000:"), "{passwd}");
    assert!(passwd.contains("warden:x:1500:1500:"), "{passwd}");
}

#[test]
fn the_same_settings_change_nothing() {
    let device = root(NETWORKD);
    configure(&device, &first_settings());
    let before = device.to_bytes();
    let report = configure(&device, &first_settings());
    let changed: Vec<_> = report
        .files
        .iter()
        .filter(|f| f.diff.contains("\n+"))
        .collect();
    assert!(report.is_unchanged() && changed.is_empty(), "{changed:?}");
    assert!(device.to_bytes() == before);
    assert_eq!(device.size(), before.len() as u64);
}

#[test]
fn steps_that_were_done_are_told() {
    let device = root(NETWORKD);
    configure(&device, &first_settings());
    let script = text(&device, "/var/lib/pinewrit/first-start");
    let mark = script
        .lines()
        .find_map(|line| line.strip_prefix("once "))
        .and_then(|rest| rest.split(' ').next())
        .unwrap();
    let mut files = open_to_change(&device, NOW).unwrap();
    let marks = "/var/lib/pinewrit/done";
    files.make_folders(marks, Rights::root(0o755)).unwrap();
    files
        .put(&format!("{marks}/{mark}"), Rights::root(0o644), b"")
        .unwrap();
    files.close().unwrap();
    let report = configure(&device, &first_settings());
    let note = report
        .notes
        .iter()
        .find(|note| note.contains("has started before"));
    let note = note.unwrap();
    assert!(
        note.contains("1 of its first-start steps run at the next start, 1 was done"),
        "{note}"
    );
}

#[rstest]
#[case::port_twice(
    "[[wired]]\ninterface = \"br0\"\nbridge = [\"eth0\"]\n[[wired]]\ninterface = \"br1\"\nbridge = [\"eth0\"]\n",
    "a port of br0 and of br1"
)]
#[case::port_with_address(
    "[[wired]]\ninterface = \"br0\"\nbridge = [\"eth0\"]\n[[wired]]\ninterface = \"eth0\"\naddresses = [\"10.77.3.10/24\"]\n",
    "has addresses of its own"
)]
#[case::both(
    "[wired]\ninterface = \"x0\"\nbridge = [\"eth0\"]\nbond = [\"eth1\"]\n",
    "a bridge and a bond"
)]
#[case::nameless("[wired]\nbridge = [\"eth0\"]\n", "without its name")]
#[case::mode(
    "[wired]\ninterface = \"b0\"\nbond = [\"eth0\"]\nbond-mode = \"fast\"\n",
    "active-backup"
)]
#[case::group_mac(
    "[wired]\nmac = \"01:00:5e:10:00:01\"\n",
    "not the address of a single interface"
)]
#[case::bad_mac("[wired]\nmac = \"02:00:5e\"\n", "not a hardware address")]
#[case::small_mtu(
    "[wired]\ninterface = \"eth0\"\nmtu = 1000\naddresses = [\"fd00:77::1/64\"]\n",
    "IPv6 needs 1280"
)]
#[case::nobody(
    "[autologin]\nuser = \"nobody\"\nconsole = true\n",
    "who is not a user in these settings"
)]
#[case::variant(
    "keyboard = \"de\"\nkeyboard-variant = \"nodeadkey\"\n",
    "did you mean \"nodeadkeys\""
)]
#[case::variant_alone("keyboard-variant = \"nodeadkeys\"\n", "without its layout")]
#[case::account(
    "[wireless]\ncountry = \"AT\"\n[[wireless.networks]]\nssid = \"a\"\nsecurity = \"enterprise\"\neap = \"peap\"\nidentity = \"x\"\n",
    "without a password"
)]
#[case::mixed(
    "[wireless]\ncountry = \"AT\"\n[[wireless.networks]]\nssid = \"a\"\npassphrase = \"kestrel over scree\"\nidentity = \"x\"\n",
    "share a passphrase"
)]
#[case::no_pem(
    "[wireless]\ncountry = \"AT\"\n[[wireless.networks]]\nssid = \"a\"\nsecurity = \"enterprise\"\neap = \"tls\"\nidentity = \"x\"\ncertificate-file = \"nope\"\nkey-file = \"nope\"\n",
    "cannot be read"
)]
#[case::file_twice(
    "[[file]]\nfrom = \"a\"\ntext = \"b\"\nto = \"root:/etc/a\"\n",
    "`from` and `text`"
)]
#[case::command("[first-start]\ncommands = [{ network = true }]\n", "without `run`")]
fn mistakes(#[case] text: &str, #[case] part: &str) {
    let mistakes = checked(text).unwrap_err().0;
    let all: Vec<String> = mistakes.iter().map(ToString::to_string).collect();
    assert!(all.iter().any(|one| one.contains(part)), "{all:#?}");
}
