//! Serial consoles, over pseudo-terminals.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::OwnedFd;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use common::{Bench, Run};
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{OptionalActions, tcgetattr, tcsetattr};

const PATIENCE: Duration = Duration::from_secs(20);

/// A board at the other end of a port.
struct Board {
    master: File,
    /// Keeps what was said until somebody listens.
    _slave: File,
}

impl Board {
    /// A port with this name in the bench's folder.
    fn plugged_in(bench: &Bench, name: &str) -> Self {
        let master: OwnedFd =
            openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC).unwrap();
        grantpt(&master).unwrap();
        unlockpt(&master).unwrap();
        let path = PathBuf::from(ptsname(&master, Vec::new()).unwrap().into_string().unwrap());
        let mut raw = tcgetattr(&master).unwrap();
        raw.make_raw();
        tcsetattr(&master, OptionalActions::Now, &raw).unwrap();
        let slave = File::options().read(true).write(true).open(&path).unwrap();
        std::os::unix::fs::symlink(&path, bench.path(name)).unwrap();
        Self {
            master: File::from(master),
            _slave: slave,
        }
    }

    /// The rate at which somebody listens; nobody does so at first.
    fn rate(&self) -> u32 {
        tcgetattr(&self.master).unwrap().output_speed()
    }

    fn wait_for_rate(&self, rate: u32) {
        let begun = Instant::now();
        while self.rate() != rate {
            assert!(begun.elapsed() < PATIENCE, "nobody listens at {rate}");
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    fn say(&mut self, text: &str) {
        self.master.write_all(text.as_bytes()).unwrap();
    }

    /// What was typed, up to a sign.
    fn hear(&mut self, end: u8) -> String {
        let mut heard = Vec::new();
        while heard.last() != Some(&end) {
            let mut one = [0];
            self.master.read_exact(&mut one).unwrap();
            heard.push(one[0]);
        }
        String::from_utf8(heard).unwrap()
    }
}

/// The program, listening.
fn watching(bench: &Bench, args: &[&str]) -> Child {
    let mut command: Command = bench.command(&[&["watch"], args].concat());
    command
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped());
    command.spawn().unwrap()
}

fn end(child: Child) -> Run {
    Run::from(child.wait_with_output().unwrap())
}

const BOOT: &str = "U-Boot SPL 2026.01 (made up)\r\n[    0.000000] Linux version 6.1.0 (made up)\r\n\
    \x1b[1mWelcome to Larkfell OS 4.2!\x1b[0m\r\n\r\nlarkfell-03 login: ";

#[test]
fn a_boot_is_followed_up_to_its_login() {
    let bench = Bench::new();
    let mut board = Board::plugged_in(&bench, "tty");
    let child = watching(&bench, &["tty", "--until", "login:", "--log", "hut.log"]);
    board.wait_for_rate(115_200);
    board.say(BOOT);
    let run = end(child).expect(0);
    for stage in ["boot loader", "kernel", "user space", "login"] {
        assert!(run.stderr.contains(stage), "{}", run.stderr);
    }
    let run = run.shows(&["  Welcome to Larkfell OS 4.2!\n", "larkfell-03 login: "]);
    assert!(!run.stdout.contains('\x1b'), "{:?}", run.stdout);
    let log = String::from_utf8(bench.read("hut.log")).unwrap();
    assert!(
        log.contains("0.0") && log.contains("  Welcome to Larkfell OS 4.2!\n"),
        "{log}"
    );
    // A full disk is no reason not to listen.
    let child = watching(&bench, &["tty", "--until", "login:", "--log", "/dev/full"]);
    board.say(BOOT);
    end(child).expect(0);
    let child = watching(&bench, &["--json", "tty", "--until", "login:"]);
    board.say(BOOT);
    let run = end(child).expect(0).described();
    let result = run.json();
    assert_eq!(result["ended"], "found");
    assert_eq!(result["stage"], "login");
}

#[test]
fn a_boot_that_cannot_go_on_is_told_with_the_reason() {
    let bench = Bench::new();
    let mut board = Board::plugged_in(&bench, "tty");
    let child = watching(&bench, &["tty", "--until", "login:"]);
    board.wait_for_rate(115_200);
    board.say("[    0.000000] Linux version 6.1.0\r\n");
    board.say("[    2.1] VFS: Cannot open root device \"UUID=1-2\"\r\n");
    board.say("[    2.2] Kernel panic - not syncing: VFS\r\n");
    let run = end(child).expect(5);
    run.says(&[
        "the kernel finds no root file system",
        "compare root=",
        "UUID=1-2",
    ]);
    let child = watching(&bench, &["tty", "--fail", "smoke"]);
    board.say("there is smoke\r\n");
    end(child).expect(5).says(&["there is smoke"]);
}

#[test]
fn silence_is_told_with_what_to_check() {
    let bench = Bench::new();
    let _board = Board::plugged_in(&bench, "tty");
    let child = watching(&bench, &["tty", "--silence", "1", "--timeout", "2"]);
    let run = end(child).expect(8);
    run.says(&[
        "nothing has come for 1 s",
        "TX goes to RX",
        "nothing came in time",
    ]);
    bench
        .run(&["watch", "none"])
        .expect(2)
        .says(&["there is no none"]);
}

/// A board that speaks at 38 400 baud: at any other rate, its bits are none of its text.
fn speaks_slowly(mut board: Board, child: Child) -> Run {
    let begun = Instant::now();
    std::thread::spawn(move || {
        let garbage: Vec<u8> = (0..64_u8).map(|n| n.wrapping_mul(37) | 0x80).collect();
        while begun.elapsed() < PATIENCE {
            std::thread::sleep(Duration::from_millis(40));
            let said = match board.rate() {
                38_400 => board
                    .master
                    .write_all(b"[    1.000000] all is well in the hut\r\n"),
                _ => board.master.write_all(&garbage),
            };
            if said.is_err() {
                return;
            }
        }
    });
    end(child)
}

#[test]
fn a_wrong_rate_is_told_and_the_right_one_found() {
    let bench = Bench::new();
    let board = Board::plugged_in(&bench, "tty");
    let child = watching(&bench, &["tty", "--baud", "auto", "--until", "all is well"]);
    let run = speaks_slowly(board, child).expect(0);
    run.says(&["what comes at 115200 baud is no text; at 38400 it is"]);
    let board = Board::plugged_in(&bench, "other");
    let child = watching(&bench, &["other", "--baud", "9600", "--timeout", "8"]);
    let run = speaks_slowly(board, child).expect(0);
    run.says(&["what comes at 9600 baud is no text; at 38400 it is: --baud 38400"]);
}

#[test]
fn a_board_file_says_the_rate() {
    let bench = Bench::new();
    let mut board = Board::plugged_in(&bench, "tty");
    let file = "name = \"Hut board\"\narchitecture = \"arm64\"\nserial-rate = 57600\n[[way]]\nloader = \"uefi\"\n";
    bench.write("hut.toml", file);
    let child = watching(&bench, &["tty", "--board", "hut.toml", "--until", "login:"]);
    board.wait_for_rate(57_600);
    board.say(BOOT);
    end(child).expect(0).says(&["57600"]);
}

#[test]
fn a_port_that_goes_and_comes_back() {
    let bench = Bench::new();
    let mut board = Board::plugged_in(&bench, "tty");
    let child = watching(&bench, &["tty", "--until", "login:"]);
    board.wait_for_rate(115_200);
    board.say("a line that breaks o");
    std::thread::sleep(Duration::from_millis(500));
    drop(board);
    std::fs::remove_file(bench.path("tty")).unwrap();
    std::thread::sleep(Duration::from_millis(500));
    let mut board = Board::plugged_in(&bench, "tty");
    board.wait_for_rate(115_200);
    board.say(BOOT);
    let run = end(child).expect(0);
    run.says(&["the port is gone", "the port is back"])
        .shows(&["a line that breaks o\n", "  U-Boot SPL"]);
}

#[test]
fn what_the_board_asks_for_is_typed() {
    let bench = Bench::new();
    let mut board = Board::plugged_in(&bench, "tty");
    let args = [
        "tty",
        "--after",
        "login:",
        "--send",
        "warden",
        "--after",
        "Password:",
        "--send",
        "made up",
        "--until",
        "welcome",
    ];
    let child = watching(&bench, &args);
    board.wait_for_rate(115_200);
    board.say("larkfell-03 login: ");
    assert_eq!(board.hear(b'\r'), "warden\r");
    board.say("\r\nPassword: ");
    assert_eq!(board.hear(b'\r'), "made up\r");
    board.say("\r\nwelcome\r\n");
    end(child).expect(0);
}

#[test]
fn the_keyboard_is_passed_on() {
    let bench = Bench::new();
    let mut board = Board::plugged_in(&bench, "tty");
    let mut child = watching(&bench, &["tty", "--typing"]);
    board.wait_for_rate(115_200);
    let mut keyboard = child.stdin.take().unwrap();
    keyboard.write_all(b"ls\r").unwrap();
    assert_eq!(board.hear(b'\r'), "ls\r");
    board.say("\x1b[1mhut.log\x1b[0m\r\n");
    std::thread::sleep(Duration::from_millis(500));
    keyboard.write_all(b"\x1c").unwrap();
    let run = end(child).expect(0);
    assert!(
        run.stdout.contains("\x1b[1mhut.log\x1b[0m\r\n"),
        "{:?}",
        run.stdout
    );
}
