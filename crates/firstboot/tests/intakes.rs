//! Settings by each intake: the same facts, modes, renewal, secrets, a way in.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use common::{KEY, MIB, NOW, prepare, root_options, settings};
use pinewrit_disk::{BlockDevice, ByteRange, MemoryDevice, Window};
use pinewrit_ext4::{Attributes, Zeros, make};
use pinewrit_firstboot::configure::{ChangeKind, ConfigureError, ConfigureReport, IntakeWish};
use pinewrit_firstboot::intake::custom::CustomIntake;
use pinewrit_firstboot::intake::{SettingsFacts, find_settings};
use pinewrit_settings::CheckedSettings;
use pinewrit_table::PartitionTable;
use pinewrit_volume::files::{Files, open_to_read};
use pinewrit_volume::format::{FatKind, FormatKind, FormatOptions, format};
use proptest::prelude::*;
use rstest::rstest;

const PASSPHRASE: &str = "made-up sample passphrase";

/// A root file system that has these programs besides what every one here has.
fn root(programs: &[&str]) -> MemoryDevice {
    let device = MemoryDevice::new(48 * MIB as usize);
    let mut editor = make(&device, &root_options()).unwrap();
    let common: [(&str, u16, &str); 9] = [
        (
            "/etc/passwd",
            0o644,
            "root:x:0:0:root:/root:/bin/sh\nhut:x:1000:1000::/home/hut:/bin/sh\n",
        ),
        (
            "/etc/shadow",
            0o640,
            "root:*:20000:0:99999:7:::\nhut:!:20000:0:99999:7:::\n",
        ),
        (
            "/etc/group",
            0o644,
            "root:x:0:\nshadow:x:42:\nhut:x:1000:\n",
        ),
        ("/etc/hosts", 0o644, "127.0.0.1\tlocalhost\n"),
        (
            "/etc/ssh/sshd_config",
            0o644,
            "Port 22\nPasswordAuthentication yes\n",
        ),
        ("/etc/ssh/ssh_host_rsa_key", 0o600, "built in"),
        (
            "/etc/machine-id",
            0o444,
            "0123456789abcdef0123456789abcdef\n",
        ),
        ("/etc/skel/.profile", 0o644, "umask 027\n"),
        (
            "/usr/lib/systemd/system/ssh.service",
            0o644,
            "[Install]\nWantedBy=multi-user.target\n",
        ),
    ];
    let always = [
        "/usr/sbin/sshd",
        "/usr/lib/systemd/systemd",
        "/usr/bin/sudo",
    ];
    let programs = always.iter().chain(programs);
    let programs = programs.map(|path| (*path, 0o755, "program"));
    for (path, mode, text) in common.into_iter().chain(programs) {
        let above = path.rsplit_once('/').unwrap().0;
        let folder = Attributes::root(0o755, NOW);
        editor.make_folders(above.as_bytes(), &folder).unwrap();
        let attributes = Attributes::root(mode, NOW);
        let size = text.len() as u64;
        let mut text = text.as_bytes();
        editor
            .write_file(
                path.as_bytes(),
                &attributes,
                size,
                &mut text,
                Zeros::Written,
            )
            .unwrap();
    }
    editor.commit().unwrap();
    device
}

const NETWORKD: &[&str] = &[
    "/usr/lib/systemd/systemd-networkd",
    "/usr/lib/systemd/system/systemd-networkd.service",
    "/usr/lib/systemd/system/wpa_supplicant@.service",
    "/etc/systemd/system/multi-user.target.wants/systemd-networkd.service",
];
const KEYFILES: &[&str] = &["/usr/sbin/NetworkManager"];
const IFUPDOWN: &[&str] = &["/usr/sbin/ifup", "/usr/sbin/wpa_supplicant"];
const NETPLAN: &[&str] = &["/usr/sbin/netplan"];
const SEED: &[&str] = &["/usr/bin/cloud-init"];

fn hut() -> CheckedSettings {
    settings(&format!(
        "hostname = \"larkfell-03\"\n[[users]]\nname = \"warden\"\nsudo = true\n\
         password-env = \"GOOD\"\nssh-keys = [\"{KEY}\"]\n[ssh]\nenabled = true\nport = 2222\n\
         [[wired]]\ninterface = \"eth0\"\naddresses = [\"10.77.3.10/24\", \"fd00:77::10/64\"]\n\
         gateway = \"10.77.3.1\"\ndns = [\"10.77.0.53\"]\n\
         [[wired]]\ninterface = \"eth0\"\nvlan = 20\naddresses = [\"10.79.3.10/24\"]\n\
         [[wired]]\ninterface = \"eth1\"\n[wireless]\ncountry = \"AT\"\n\
         [[wireless.networks]]\nssid = \"larkfell valley\"\npassphrase = \"{PASSPHRASE}\"\n"
    ))
}

fn configure(device: &MemoryDevice, settings: &CheckedSettings) -> ConfigureReport {
    prepare(device, settings).unwrap().commit(None).unwrap()
}

fn facts(device: &MemoryDevice) -> SettingsFacts {
    find_settings(device, None).unwrap()
}

fn files(device: &MemoryDevice) -> Files<'_> {
    open_to_read(device).unwrap()
}

fn text(device: &MemoryDevice, path: &str) -> String {
    files(device).text(path).unwrap().unwrap_or_default()
}

fn mode(device: &MemoryDevice, path: &str) -> Option<u16> {
    files(device).facts(path).unwrap()?.mode
}

#[rstest]
#[case::networkd(NETWORKD, "rootfs", Some("systemd-networkd"))]
#[case::keyfiles(KEYFILES, "rootfs", Some("NetworkManager"))]
#[case::ifupdown(IFUPDOWN, "rootfs", Some("ifupdown"))]
#[case::netplan(NETPLAN, "rootfs", Some("netplan"))]
#[case::seed(SEED, "cloud-init", None)]
fn every_intake_gives_the_same_facts(
    #[case] programs: &[&str],
    #[case] intake: &str,
    #[case] network: Option<&str>,
) {
    let device = root(programs);
    let report = configure(&device, &hut());
    assert_eq!((report.intake.as_str(), report.network), (intake, network));
    assert_eq!(report.has_way_in, Some(true));
    let found = facts(&device);
    assert_eq!(found.host_name.as_deref(), Some("larkfell-03"));
    assert_eq!(found.users, ["warden"]);
    let networks = [
        "eth0 10.77.3.10/24",
        "eth0 fd00:77::10/64",
        "eth0.20 10.79.3.10/24",
        "eth1 DHCP",
        "wlan0 larkfell valley",
    ];
    assert_eq!(found.networks, networks);
    pinewrit_ext4::check(&device).unwrap();
}

#[rstest]
#[case::networkd(NETWORKD)]
#[case::keyfiles(KEYFILES)]
#[case::ifupdown(IFUPDOWN)]
#[case::netplan(NETPLAN)]
#[case::seed(SEED)]
fn twice_is_once_and_secrets_are_told_to_nobody(#[case] programs: &[&str]) {
    let device = root(programs);
    let first = configure(&device, &hut());
    let json = serde_json::to_string(&first).unwrap();
    for secret in [PASSPHRASE, "PRIVATE KEY", "$6$", "psk="] {
        assert!(!json.contains(secret), "{secret} in {json}");
    }
    let before = device.to_bytes();
    // Times would differ.
    std::thread::sleep(std::time::Duration::from_millis(1100));
    let again = prepare(&device, &hut()).unwrap();
    assert!(again.report().is_unchanged(), "{:?}", again.report().files);
    again.commit(None).unwrap();
    assert!(device.to_bytes() == before);
}

#[test]
fn modes_are_those_that_programs_demand() {
    let device = root(NETWORKD);
    let report = configure(&device, &hut());
    for (path, expected) in [
        ("/etc/ssh/ssh_host_ed25519_key", 0o600),
        ("/etc/ssh/ssh_host_ed25519_key.pub", 0o644),
        ("/etc/wpa_supplicant/wpa_supplicant-wlan0.conf", 0o600),
        ("/etc/sudoers.d/90-warden", 0o440),
        ("/etc/shadow", 0o640),
        ("/home/warden", 0o700),
        ("/home/warden/.ssh", 0o700),
        ("/home/warden/.ssh/authorized_keys", 0o600),
        ("/var/lib/pinewrit/state.json", 0o600),
    ] {
        assert_eq!(mode(&device, path), Some(expected), "{path}");
    }
    let keys = files(&device)
        .facts("/home/warden/.ssh/authorized_keys")
        .unwrap()
        .unwrap();
    assert_eq!(keys.owner, Some((1001, 1001)));
    assert_eq!(text(&device, "/home/warden/.profile"), "umask 027\n");
    // Nothing that would be the same on every card is left.
    assert_eq!(text(&device, "/etc/machine-id"), "");
    assert!(
        !files(&device)
            .has_name("/etc/ssh/ssh_host_rsa_key")
            .unwrap()
    );
    let known = report.host_key.unwrap().known_hosts;
    assert!(
        known.starts_with("[larkfell-03]:2222,[larkfell-03.local]:2222,[10.77.3.10]:2222"),
        "{known}"
    );
    let public = text(&device, "/etc/ssh/ssh_host_ed25519_key.pub");
    assert!(known.ends_with(public.split(" root@").next().unwrap()));
    // Ports would add up.
    assert!(text(&device, "/etc/ssh/sshd_config").contains("# Port 22\n"));
    assert!(text(&device, "/etc/hosts").contains("127.0.1.1\tlarkfell-03\n"));
}

#[test]
fn other_settings_replace_what_an_earlier_run_put() {
    let device = root(NETWORKD);
    let first = configure(&device, &hut());
    let next = settings(&format!(
        "hostname = \"larkfell-04\"\n[[users]]\nname = \"guide\"\nssh-keys = [\"{KEY}\"]\n\
         [wired]\ninterface = \"eth0\"\naddresses = [\"10.77.4.10/24\"]\ngateway = \"10.77.4.1\"\n"
    ));
    let report = configure(&device, &next);
    let found = facts(&device);
    assert_eq!(found.users, ["guide"]);
    assert_eq!(found.networks, ["eth0 10.77.4.10/24"]);
    let removed = |path: &str| {
        let mut files = report.files.iter();
        files.any(|file| file.path == path && file.kind == ChangeKind::Removed)
    };
    assert!(removed("/etc/wpa_supplicant/wpa_supplicant-wlan0.conf"));
    assert!(removed("/etc/sudoers.d/90-warden"));
    assert!(!text(&device, "/etc/passwd").contains("warden"));
    // Its files stay, and so does the key that people know.
    assert!(
        files(&device)
            .has("/home/warden/.ssh/authorized_keys")
            .unwrap()
    );
    let (before, after) = (first.host_key.unwrap(), report.host_key.unwrap());
    assert_eq!(before.fingerprint, after.fingerprint);
}

#[test]
fn what_was_changed_by_hand_stays() {
    let device = root(NETWORKD);
    configure(&device, &hut());
    let own = "[Match]\nName=eth1\n";
    let path = "/etc/systemd/network/10-pinewrit-eth1.network";
    {
        let mut files = pinewrit_volume::files::open_to_change(&device, NOW).unwrap();
        let rights = pinewrit_volume::files::Rights::root(0o644);
        files.put(path, rights, own.as_bytes()).unwrap();
        let keys = "/home/warden/.ssh/authorized_keys";
        let line = format!("{KEY}\nssh-ed25519 AAAA added by hand\n");
        files.put(keys, rights, line.as_bytes()).unwrap();
        files.close().unwrap();
    }
    let next = settings(&format!(
        "hostname = \"larkfell-03\"\n[[users]]\nname = \"warden\"\nssh-keys = [\"{KEY}\"]\n"
    ));
    let report = configure(&device, &next);
    assert_eq!(text(&device, path), own);
    assert!(
        report
            .notes
            .iter()
            .any(|note| note.contains("changed by hand"))
    );
    let keys = text(&device, "/home/warden/.ssh/authorized_keys");
    assert!(keys.contains("added by hand") && keys.contains(KEY));
    assert_eq!(
        mode(&device, "/home/warden/.ssh/authorized_keys"),
        Some(0o600)
    );
}

#[rstest]
#[case::lock("lock", "hut", "!")]
#[case::rename("rename", "warden", "$6$")]
fn the_stock_user(#[case] wish: &str, #[case] name: &str, #[case] hash: &str) {
    let device = root(NETWORKD);
    let text_of =
        format!("stock-user = \"{wish}\"\n[[users]]\nname = \"warden\"\npassword-env = \"GOOD\"\n");
    configure(&device, &settings(&text_of));
    let shadow = text(&device, "/etc/shadow");
    let line = shadow
        .lines()
        .find(|line| line.starts_with(&format!("{name}:")))
        .unwrap();
    let fields: Vec<&str> = line.split(':').collect();
    assert!(fields[1].starts_with(hash), "{}", fields[1].len());
    assert_eq!(fields[7] == "1", wish == "lock");
    assert_eq!(shadow.contains("hut:"), wish == "lock");
    if wish == "rename" {
        assert!(text(&device, "/etc/passwd").contains("warden:x:1000:1000::/home/hut:"));
    }
}

#[test]
fn a_board_without_a_way_in_is_told() {
    let device = root(NETWORKD);
    let nobody = settings("hostname = \"larkfell-03\"\n");
    assert_eq!(
        prepare(&device, &nobody).unwrap().report().has_way_in,
        Some(false)
    );
    let device = root(SEED);
    assert_eq!(
        prepare(&device, &nobody).unwrap().report().has_way_in,
        Some(false)
    );
}

#[test]
fn swap_and_first_start() {
    let device = root(NETWORKD);
    let wanted = settings(
        "swap = \"4MiB\"\n[first-start]\npackages = [\"tmux\"]\ncommands = [\"echo 'up'\"]\n",
    );
    let report = configure(&device, &wanted);
    assert!(report.notes.iter().any(|note| note.contains("tmux")));
    let swap = files(&device).facts("/swapfile").unwrap().unwrap();
    assert_eq!((swap.size, swap.mode), (4 * MIB, Some(0o600)));
    let head = files(&device).read("/swapfile", 4 * MIB).unwrap().unwrap();
    assert_eq!(head[4086..4096], *b"SWAPSPACE2");
    assert!(text(&device, "/etc/fstab").contains("/swapfile none swap sw 0 0\n"));
    let script = text(&device, "/var/lib/pinewrit/first-start");
    assert!(script.contains(" 'echo '\\''up'\\'''\n"), "{script}");
    let link = "/etc/systemd/system/multi-user.target.wants/pinewrit-first-start.service";
    assert!(files(&device).has(link).unwrap());
}

#[test]
fn texts_and_files_of_the_settings() {
    let device = root(NETWORKD);
    let edit = "[[edit]]\nplace = \"/etc/hosts\"\nline = \"10.77.0.1\\tvalley\"\n";
    let report = configure(&device, &settings(edit));
    assert_eq!(report.files.last().unwrap().kind, ChangeKind::Edited);
    assert!(text(&device, "/etc/hosts").ends_with("10.77.0.1\tvalley\n"));
    let missing = "[[edit]]\nplace = \"/etc/hosts\"\non = \"nothing\"\n";
    match prepare(&device, &settings(missing)).err() {
        Some(ConfigureError::Extra { line, what }) => {
            assert_eq!(line, 1);
            assert!(what.contains("nothing"), "{what}");
        }
        other => panic!("{other:?}"),
    }
}

const INTAKE: &str = "name = \"scree\"\n[[step]]\nplace = \"root:/etc/scree.conf\"\nmode = \"0600\"\n\
    secret = true\ncontent = \"{{ settings.hostname }} {{ settings.wireless.networks[0].key }}\\n\"\n\
    [[step]]\nplace = \"root:/etc/flag\"\nwhen = \"settings.ssh.enabled\"\ncontent = \"\"\n\
    [[step]]\nplace = \"root:/etc/hosts\"\nset = \"unit={{ settings.wired[0].addresses[0].netmask }}\"\n";

#[test]
fn an_intake_that_is_described() {
    let device = root(&[]);
    let mut wanted = hut();
    wanted.intake = Some(IntakeWish::Described(INTAKE.into()));
    let report = configure(&device, &wanted);
    assert_eq!(report.intake, "scree");
    assert_eq!(mode(&device, "/etc/scree.conf"), Some(0o600));
    assert!(text(&device, "/etc/scree.conf").starts_with("larkfell-03 "));
    assert!(files(&device).has("/etc/flag").unwrap());
    assert!(text(&device, "/etc/hosts").ends_with("unit=255.255.255.0\n"));
    let json = serde_json::to_string(&report).unwrap();
    let key = text(&device, "/etc/scree.conf");
    assert!(!json.contains(key.split(' ').nth(1).unwrap().trim()));
}

#[rstest]
#[case::no_toml("name = ")]
#[case::unknown_key("name = \"x\"\n[[step]]\nplace = \"boot:/a\"\ncontents = \"\"\n")]
#[case::no_place("name = \"x\"\n[[step]]\nplace = \"boot:a\"\ncontent = \"\"\n")]
#[case::two_deeds("name = \"x\"\n[[step]]\nplace = \"boot:/a\"\ncontent = \"\"\nremove = true\n")]
#[case::template("name = \"x\"\n[[step]]\nplace = \"boot:/a\"\ncontent = \"{{ \"\n")]
#[case::expression("name = \"x\"\n[[step]]\nplace = \"boot:/a\"\nwhen = \"a +\"\ncontent = \"\"\n")]
#[case::mode("name = \"x\"\n[[step]]\nplace = \"boot:/a\"\ncontent = \"\"\nmode = \"9\"\n")]
fn intakes_with_mistakes(#[case] text: &str) {
    CustomIntake::parse(text).unwrap_err();
}

#[test]
fn a_template_without_end_ends() {
    let device = root(&[]);
    let endless = "name = \"x\"\n[[step]]\nplace = \"root:/etc/a\"\n\
                   content = \"{% for a in range(99999) %}{% for b in range(99999) %}x{% endfor %}{% endfor %}\"\n";
    let mut wanted = hut();
    wanted.intake = Some(IntakeWish::Described(endless.into()));
    assert!(matches!(
        prepare(&device, &wanted).err(),
        Some(ConfigureError::Custom(_))
    ));
}

#[test]
fn the_demos_intakes_are_sound() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/intakes");
    let mut count = 0;
    for entry in std::fs::read_dir(folder).unwrap() {
        let text = std::fs::read_to_string(entry.unwrap().path()).unwrap();
        CustomIntake::parse(&text).unwrap();
        count += 1;
    }
    assert_eq!(count, 2);
}

#[test]
fn a_partition_for_the_seed_is_added() {
    // A system whose root cannot be looked into, and no FAT.
    let device = MemoryDevice::new(64 * MIB as usize);
    let mut id = 0u8;
    let ids = &mut || {
        id += 1;
        [id; 16]
    };
    let scheme = pinewrit_table::SchemeKind::Gpt;
    let sector = device.logical_sector();
    let mut table = pinewrit_table::TableEdit::create(device.size(), sector, scheme, ids).unwrap();
    let linux = pinewrit_table::PartitionType::from_text("linux", scheme).unwrap();
    let size = pinewrit_table::PartitionSize::Bytes(20 * MIB);
    let new = pinewrit_table::NewPartition::new(linux, size);
    table.add(&new, ids).unwrap();
    table.write(&device).unwrap();
    assert!(matches!(
        prepare(&device, &hut()).err(),
        Some(ConfigureError::NoPlace { .. })
    ));
    let mut wanted = hut();
    wanted.intake = Some(IntakeWish::CloudInit);
    let report = configure(&device, &wanted);
    assert_eq!(report.partition, Some(2));
    assert!(report.found_by_label && report.reason.contains("was added"));
    let table = PartitionTable::read(&device).unwrap().unwrap();
    assert_eq!(table.problems, []);
    let added = Window::new(&device, table.partitions[1].range);
    let found = pinewrit_volume::probe(&added).unwrap().unwrap();
    assert_eq!(found.label.as_deref(), Some("CIDATA"));
    assert_eq!(find_settings(&added, Some(2)).unwrap().users, ["warden"]);
    // The second time it is there.
    let again = prepare(&device, &wanted).unwrap();
    assert!(again.report().is_unchanged());
}

#[test]
fn cloud_init_does_not_undo_what_the_root_has() {
    let device = root(SEED);
    let mut wanted = hut();
    wanted.wireless = None;
    wanted.wired.clear();
    wanted.intake = Some(IntakeWish::Root);
    configure(&device, &wanted);
    assert!(
        files(&device)
            .has("/etc/cloud/cloud-init.disabled")
            .unwrap()
    );
    // Looked at again, it is the root file system that counts.
    wanted.intake = None;
    let again = prepare(&device, &wanted).unwrap();
    assert_eq!(again.report().intake, "rootfs");
    drop(again);
    wanted.intake = Some(IntakeWish::CloudInit);
    let report = configure(&device, &wanted);
    assert!(
        !files(&device)
            .has_name("/etc/cloud/cloud-init.disabled")
            .unwrap()
    );
    let noted = |note: &String| note.contains("also has settings by rootfs");
    assert!(report.notes.iter().any(noted), "{:?}", report.notes);
}

/// A small root with one of the older ways to start services.
#[rstest]
#[case::openrc("/sbin/openrc-run", "/etc/init.d/sshd", "/etc/runlevels/default/sshd")]
#[case::sysv("/etc/inittab", "/etc/init.d/ssh", "/etc/rc2.d/S02ssh")]
fn services_of_other_inits(#[case] init: &str, #[case] script: &str, #[case] link: &str) {
    let device = root(&[init, script]);
    {
        let mut files = pinewrit_volume::files::open_to_change(&device, NOW).unwrap();
        files.remove("/usr/lib/systemd/systemd").unwrap();
        files.close().unwrap();
    }
    let on = "[[users]]\nname = \"warden\"\npassword-env = \"GOOD\"\n[ssh]\nenabled = true\n\
              [first-start]\ncommands = [\"true\"]\n";
    configure(&device, &settings(on));
    assert!(files(&device).has(link).unwrap(), "{link}");
    assert!(
        files(&device)
            .has("/etc/init.d/pinewrit-first-start")
            .unwrap()
    );
    let off = settings(&on.replace("enabled = true", "enabled = false"));
    configure(&device, &off);
    assert!(!files(&device).has(link).unwrap(), "{link}");
}

/// Flips a bit of an inode: that of `lost+found`.
fn damage(device: &dyn BlockDevice) {
    let number = |at: u64| {
        let mut raw = [0; 4];
        device.read_at(at, &mut raw).unwrap();
        u64::from(u32::from_le_bytes(raw))
    };
    let block = 1024 << number(1024 + 0x18);
    let descriptor = (1024 / block + 1) * block;
    let place = number(descriptor + 8) * block + 10 * 256;
    let mut byte = [0];
    device.read_at(place, &mut byte).unwrap();
    device.write_at(place, &[byte[0] ^ 1]).unwrap();
}

#[test]
fn only_what_is_changed_has_to_hold_together() {
    let device = root(NETWORKD);
    damage(&device);
    let before = device.to_bytes();
    match prepare(&device, &hut()).err() {
        Some(ConfigureError::Files(error)) => {
            assert!(error.to_string().contains("is damaged"), "{error}");
        }
        other => panic!("{other:?}"),
    }
    assert!(device.to_bytes() == before);
    // A seed on another partition is none of its business.
    let whole = MemoryDevice::new(80 * MIB as usize);
    let mut id = 0u8;
    let ids = &mut || {
        id += 1;
        [id; 16]
    };
    let scheme = pinewrit_table::SchemeKind::Mbr;
    let sector = whole.logical_sector();
    let mut table = pinewrit_table::TableEdit::create(whole.size(), sector, scheme, ids).unwrap();
    for (word, size) in [("linux", 48), ("fat32", 16)] {
        let kind = pinewrit_table::PartitionType::from_text(word, scheme).unwrap();
        let size = pinewrit_table::PartitionSize::Bytes(size * MIB);
        table
            .add(&pinewrit_table::NewPartition::new(kind, size), ids)
            .unwrap();
    }
    table.write(&whole).unwrap();
    let starts: Vec<u64> = table
        .partitions()
        .iter()
        .map(|slot| slot.first.0 * 512)
        .collect();
    whole.write_at(starts[0], &device.to_bytes()).unwrap();
    let range = ByteRange::from_len(starts[1], 16 * MIB).unwrap();
    let kind = FormatKind::Fat(FatKind::BySize);
    let options = FormatOptions::new(kind, "CIDATA", [3; 32], NOW);
    format(&Window::new(&whole, range), &options).unwrap();
    let mut wanted = hut();
    wanted.intake = Some(IntakeWish::CloudInit);
    assert_eq!(configure(&whole, &wanted).partition, Some(2));
}

#[test]
fn texts_that_are_none_are_left_alone() {
    let device = root(NETWORKD);
    {
        let mut files = pinewrit_volume::files::open_to_change(&device, NOW).unwrap();
        let rights = pinewrit_volume::files::Rights::root(0o644);
        let latin = b"root:x:0:0:H\xfctte:/root:/bin/sh\n";
        files.put("/etc/passwd", rights, latin).unwrap();
        files.close().unwrap();
    }
    let before = device.to_bytes();
    let error = prepare(&device, &hut()).err().unwrap();
    assert!(
        error.to_string().contains("/etc/passwd is not a text"),
        "{error}"
    );
    assert!(device.to_bytes() == before);
}

#[test]
fn a_host_key_that_came_along_is_made_anew_without_a_question() {
    let device = root(NETWORKD);
    {
        let mut files = pinewrit_volume::files::open_to_change(&device, NOW).unwrap();
        let rights = pinewrit_volume::files::Rights::root(0o600);
        files
            .put("/etc/ssh/ssh_host_ed25519_key", rights, b"built in")
            .unwrap();
        files.close().unwrap();
    }
    let report = configure(&device, &hut());
    let kind = |path: &str| {
        let mut files = report.files.iter();
        files.find(|file| file.path == path).map(|file| file.kind)
    };
    assert_eq!(
        kind("/etc/ssh/ssh_host_ed25519_key"),
        Some(ChangeKind::Renewed)
    );
    assert_eq!(kind("/etc/ssh/ssh_host_rsa_key"), Some(ChangeKind::Removed));
}

/// Where systemd listens for the server, its service stays off, and the port is the socket's.
#[test]
fn a_server_that_is_started_by_its_socket() {
    let wanted = "/etc/systemd/system/sockets.target.wants/ssh.socket";
    let device = root(&[NETWORKD, &[wanted]].concat());
    configure(&device, &hut());
    let service = "/etc/systemd/system/multi-user.target.wants/ssh.service";
    assert!(!files(&device).has_name(service).unwrap());
    let port = text(&device, "/etc/systemd/system/ssh.socket.d/10-pinewrit.conf");
    assert!(
        port.ends_with("ListenStream=\nListenStream=2222\n"),
        "{port}"
    );
}

/// Where systemd-resolved answers, programs are led to it, unless somebody leads them elsewhere.
#[rstest]
#[case::a_text_of_the_build(None, "../run/systemd/resolve/stub-resolv.conf")]
#[case::a_link(Some("/run/elsewhere"), "/run/elsewhere")]
fn programs_ask_the_name_server_that_is_set(#[case] link: Option<&str>, #[case] target: &str) {
    let resolved = "/usr/lib/systemd/system/systemd-resolved.service";
    let device = root(&[NETWORKD, &[resolved, "/etc/resolv.conf"]].concat());
    if let Some(link) = link {
        let mut files = pinewrit_volume::files::open_to_change(&device, NOW).unwrap();
        files.link("/etc/resolv.conf", link).unwrap();
        files.close().unwrap();
    }
    configure(&device, &hut());
    let found = files(&device).facts("/etc/resolv.conf").unwrap().unwrap();
    assert_eq!(found.target.as_deref(), Some(target));
}

/// cloud-init fails where nothing reads the keyboard's layout, and makes only locales that are listed.
#[rstest]
#[case::nothing_reads_it(&["/var/lib/dpkg/status"], false)]
#[case::console_setup(
    &["/var/lib/dpkg/status", "/usr/lib/systemd/system/console-setup.service"],
    true
)]
#[case::another_kind_of_system(&[], true)]
fn a_seed_asks_for_what_the_image_can_do(#[case] files: &[&str], #[case] has_keyboard: bool) {
    let device = root(&[SEED, files].concat());
    let wanted = settings(&format!(
        "locale = \"de_AT.UTF-8\"\nkeyboard = \"de\"\n[[users]]\nname = \"warden\"\n\
         ssh-keys = [\"{KEY}\"]\n"
    ));
    let report = configure(&device, &wanted);
    let seed = text(&device, "/var/lib/cloud/seed/nocloud/user-data");
    assert_eq!(seed.contains("keyboard:"), has_keyboard, "{seed}");
    let is_told = report
        .notes
        .iter()
        .any(|note| note.contains("console-setup"));
    assert_eq!(is_told, !has_keyboard);
    assert!(
        seed.contains("echo 'de_AT.UTF-8 UTF-8' >> /etc/locale.gen"),
        "{seed}"
    );
}

#[test]
fn names_of_the_image_do_not_get_into_commands() {
    let device = root(SEED);
    {
        let mut files = pinewrit_volume::files::open_to_change(&device, NOW).unwrap();
        let rights = pinewrit_volume::files::Rights::root(0o644);
        let passwd = b"root:x:0:0::/root:/bin/sh\nx;reboot:x:1000:1000::/home/x:/bin/sh\n";
        files.put("/etc/passwd", rights, passwd).unwrap();
        files.close().unwrap();
    }
    let lock = "stock-user = \"lock\"\n[[users]]\nname = \"warden\"\npassword-env = \"GOOD\"\n";
    configure(&device, &settings(lock));
    let seed = text(&device, "/var/lib/cloud/seed/nocloud/user-data");
    assert!(
        !seed.contains("reboot") && !seed.contains("usermod"),
        "{seed}"
    );
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// Damage anywhere in the metadata: told or lived with, but no panic and no endless loop, and
    /// what is put there all the same holds together.
    #[test]
    fn damaged_roots_cause_no_panic(
        damage in prop::collection::vec((0usize..400_000, any::<u8>()), 1..24),
    ) {
        let device = root(NETWORKD);
        for (at, value) in damage {
            device.write_at(at as u64, &[value]).unwrap();
        }
        let _ = (find_settings(&device, None), pinewrit_volume::probe(&device));
        let mut wanted = hut();
        wanted.users[0].password = None;
        if let Ok(prepared) = prepare(&device, &wanted) {
            prepared.commit(None).unwrap();
            pinewrit_ext4::check(&device).unwrap();
        }
    }

    /// Whatever text it is: an edit that was made changes nothing more, and no other line.
    #[test]
    fn edits_are_made_once(
        lines in prop::collection::vec("[#;]? ?[a-c]{1,2}(=[a-c ]{0,3})?|\\[[xy]\\]|", 0..9),
        end in prop_oneof![Just("\n"), Just("\r\n")],
        ends in any::<bool>(),
        kind in 0usize..6,
        word in "[a-c]{1,2}",
    ) {
        use pinewrit_volume::files::{Edit, Spot, edit_text};
        let mut text = lines.join(end);
        if ends {
            text += end;
        }
        let section = Some("x".to_owned());
        let edit = match kind {
            0 => Edit::Line { text: word.clone(), spot: Spot::End },
            1 => Edit::Line { text: word.clone(), spot: Spot::Section("x".into()) },
            2 => Edit::Set { key: word.clone(), value: "7".into(), section: None },
            3 => Edit::Set { key: word.clone(), value: "7".into(), section },
            4 => Edit::Unset { key: word.clone(), section: None },
            _ => Edit::Off(word.clone()),
        };
        if let Ok(once) = edit_text(text.as_bytes(), std::slice::from_ref(&edit)) {
            match edit_text(&once, std::slice::from_ref(&edit)) {
                Ok(twice) => prop_assert_eq!(&twice, &once),
                // What was to go is gone.
                Err(fault) => prop_assert!(fault.is_absent(&edit), "{:?}", fault),
            }
            let once = String::from_utf8(once).unwrap();
            // Lines that do not name the word stay, in their order.
            let others = |text: &str| -> Vec<String> {
                let lines = text.lines().map(str::trim).filter(|line| !line.is_empty());
                let lines = lines.filter(|line| !line.contains(&word) && *line != "[x]");
                lines.map(str::to_owned).collect()
            };
            prop_assert_eq!(others(&once), others(&text));
        }
    }
}
