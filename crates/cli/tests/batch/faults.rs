//! What may go wrong around a batch: networks, disks, clocks and readers.

use std::collections::BTreeSet;
use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use pinewrit_host::Rack;
use pinewrit_judges::Server;
use serde_json::Value;

use crate::common::secured::Papers;
use crate::common::{Bench, Run};
use crate::workshop::{PATIENCE, Person, Running, SERVER, bench, rack, records};

/// A network between a station and its server, which can be cut.
struct Network {
    port: u16,
    is_cut: Arc<AtomicBool>,
    is_silent: Arc<AtomicBool>,
    open: Arc<Mutex<Vec<TcpStream>>>,
}

impl Network {
    fn to(server: u16) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let network = Self {
            port: listener.local_addr().unwrap().port(),
            is_cut: Arc::default(),
            is_silent: Arc::default(),
            open: Arc::default(),
        };
        let (is_cut, open) = (Arc::clone(&network.is_cut), Arc::clone(&network.open));
        let is_silent = Arc::clone(&network.is_silent);
        thread::spawn(move || {
            for near in listener.incoming().map_while(Result::ok) {
                let Ok(far) = TcpStream::connect(("127.0.0.1", server)) else {
                    continue;
                };
                if is_cut.load(Ordering::SeqCst) {
                    continue;
                }
                let ends = [&near, &far].map(|end| end.try_clone().unwrap());
                open.lock().unwrap().extend(ends);
                let (back, forth) = (near.try_clone().unwrap(), far.try_clone().unwrap());
                carry(back, forth, Arc::clone(&is_silent));
                carry(far, near, Arc::clone(&is_silent));
            }
        });
        network
    }

    /// Ends all connections in the middle of whatever they carry; new ones end at once.
    fn cut(&self) {
        self.is_cut.store(true, Ordering::SeqCst);
        for end in self.open.lock().unwrap().drain(..) {
            let _ = end.shutdown(Shutdown::Both);
        }
    }

    /// From now on nothing comes through, and nobody is told.
    fn go_silent(&self, is_silent: bool) {
        self.is_silent.store(is_silent, Ordering::SeqCst);
    }

    fn mend(&self) {
        self.is_cut.store(false, Ordering::SeqCst);
    }

    /// The address of a ledger by way of this network.
    fn way_to(&self, server: &Server, ledger: &str) -> String {
        ledger.replace(&format!(":{}", server.port()), &format!(":{}", self.port))
    }
}

/// Passes on what comes, unless the network has gone silent: then it is taken, and kept.
fn carry(mut from: TcpStream, mut to: TcpStream, is_silent: Arc<AtomicBool>) {
    thread::spawn(move || {
        let mut block = [0; 4096];
        while let Ok(len @ 1..) = from.read(&mut block) {
            while is_silent.load(Ordering::SeqCst) {
                thread::sleep(Duration::from_millis(20));
            }
            if to.write_all(&block[..len]).is_err() {
                break;
            }
        }
        let _ = to.shutdown(Shutdown::Both);
    });
}

/// A slow rack, so that something can happen in the middle.
fn slow_rack(readers: usize, cards: usize, speed: &str) -> String {
    let slow = format!("write-speed = \"{speed}\"");
    let odd: Vec<(usize, &str)> = (1..=cards).map(|number| (number, slow.as_str())).collect();
    rack(readers, cards, &odd).replace("clock = \"instant\"\n", "")
}

/// Serves until so many lines of a kind were told.
fn serve_until(person: &mut Person, running: &mut Running, event: &str, count: usize) {
    let begun = Instant::now();
    running.wait_until_it_waits();
    while running.units(event).len() < count {
        let news = running.hear();
        person.look(&news);
        assert!(begun.elapsed() < PATIENCE, "{:#?}", running.seen);
        thread::sleep(Duration::from_millis(20));
    }
}

/// All units are done once, in the batch's words and in the ledger.
fn all_are_done(bench: &Bench, running: &Running, ledger: &[&str], units: usize) {
    let done: BTreeSet<String> = running.units("unit-done").into_iter().collect();
    assert_eq!(done.len(), units, "{:#?}", running.seen);
    let records = records(bench, ledger);
    let recorded: BTreeSet<&str> = records
        .iter()
        .map(|one| one["unit"].as_str().unwrap())
        .collect();
    assert_eq!((records.len(), recorded.len()), (units, units));
}

#[test]
fn a_network_that_is_cut_again_and_again_costs_nothing() {
    let Some(server) = SERVER.as_ref() else {
        return;
    };
    let bench = bench(24, &slow_rack(4, 24, "150MB"));
    let ledger = server.database();
    let network = Network::to(server.port());
    let way = network.way_to(server, &ledger);
    let mut running = Running::start(&bench, "rack.toml", &["--ledger", &way]);
    let mut person = Person::new(&bench, "rack.toml", 1..=24);
    for cut in 1..=6 {
        serve_until(&mut person, &mut running, "unit-started", cut * 3);
        network.cut();
        // Sometimes for longer than it takes to make a card.
        thread::sleep(Duration::from_millis(150 * cut as u64));
        network.mend();
    }
    assert_eq!(person.serve(&mut running), 0, "{:#?}", running.seen);
    all_are_done(&bench, &running, &["--ledger", &ledger], 24);
}

/// A cable that was pulled behind the switch: the connection stays, and no answer comes.
#[test]
fn a_network_that_goes_silent_makes_no_card_bad() {
    let Some(server) = SERVER.as_ref() else {
        return;
    };
    let bench = bench(4, &slow_rack(2, 4, "40MB"));
    let ledger = server.database();
    let network = Network::to(server.port());
    let way = network.way_to(server, &ledger);
    let mut running = Running::start(&bench, "rack.toml", &["--ledger", &way]);
    let mut person = Person::new(&bench, "rack.toml", 1..=4);
    serve_until(&mut person, &mut running, "unit-started", 2);
    network.go_silent(true);
    let begun = Instant::now();
    let is_told = |line: &Value| line["event"] == "ledger" && line["reached"] == false;
    while !running.seen.iter().any(is_told) {
        running.hear();
        assert!(begun.elapsed() < PATIENCE, "{:#?}", running.seen);
        thread::sleep(Duration::from_millis(20));
    }
    network.go_silent(false);
    network.cut();
    network.mend();
    assert_eq!(person.serve(&mut running), 0, "{:#?}", running.seen);
    all_are_done(&bench, &running, &["--ledger", &ledger], 4);
    assert_eq!(running.units("unit-failed"), [""; 0]);
}

#[test]
fn a_server_that_is_restarted_in_a_batch_costs_nothing() {
    let Some(server) = Server::start() else {
        return;
    };
    let bench = bench(6, &slow_rack(2, 6, "25MB"));
    let ledger = server.database();
    let mut running = Running::start(&bench, "rack.toml", &["--ledger", &ledger]);
    let mut person = Person::new(&bench, "rack.toml", 1..=6);
    let begun = Instant::now();
    running.wait_until_it_waits();
    while running.units("unit-started").len() < 2 {
        let news = running.hear();
        person.look(&news);
        assert!(begun.elapsed() < PATIENCE, "{:#?}", running.seen);
        thread::sleep(Duration::from_millis(20));
    }
    server.stop();
    thread::sleep(Duration::from_secs(4));
    server.resume();
    assert_eq!(person.serve(&mut running), 0, "{:#?}", running.seen);
    assert!(
        running
            .seen
            .iter()
            .any(|line| line["event"] == "ledger" && line["reached"] == false)
    );
    let done: BTreeSet<String> = running.units("unit-done").into_iter().collect();
    assert_eq!(
        (done.len(), records(&bench, &["--ledger", &ledger]).len()),
        (6, 6)
    );
}

#[test]
fn a_ledger_that_cannot_be_reached_makes_no_card_bad() {
    let Some(server) = Server::start() else {
        return;
    };
    let bench = bench(2, &rack(1, 2, &[]));
    let ledger = server.database();
    server.stop();
    let args = [
        "--ledger",
        ledger.as_str(),
        "write",
        "hut.img.zst",
        "--to",
        "card.img",
    ];
    let run = bench.run(&[&args[..], &["--size", "192MiB"]].concat());
    let run = run.expect(0);
    assert!(
        run.stderr.contains("the record is kept here"),
        "{}",
        run.stderr
    );
    bench
        .run(&["--ledger", &ledger, "ledger", "sync"])
        .expect(1);
    server.resume();
    let run = bench.run(&["--ledger", &ledger, "ledger", "list"]);
    let run = run.expect(0);
    assert!(
        run.stderr.contains("1 record kept here were sent"),
        "{}",
        run.stderr
    );
    assert!(run.stdout.contains("card.img"), "{}", run.stdout);
}

/// Leases run by the server's clock: a station whose own is wrong neither takes nor loses a unit.
#[test]
fn a_station_with_a_wrong_clock_takes_no_unit_of_another() {
    pinewrit_judges::needs!["faketime"];
    let Some(server) = SERVER.as_ref() else {
        return;
    };
    let bench = bench(12, &slow_rack(2, 12, "50MB"));
    let second = slow_rack(2, 12, "50MB")
        .replace("file = \"c", "file = \"d")
        .replace("serial = \"0", "serial = \"1");
    bench.write("second.toml", second);
    let ledger = server.database();
    let args = ["--ledger", ledger.as_str(), "--lease", "4"];
    let mut right = Running::start(&bench, "rack.toml", &args);
    let mut wrong = Running::start_by(&bench, Some("+1h"), "second.toml", &args);
    let mut people = [
        Person::new(&bench, "rack.toml", 1..=12),
        Person::new(&bench, "second.toml", 1..=12),
    ];
    right.wait_until_it_waits();
    wrong.wait_until_it_waits();
    let begun = Instant::now();
    while !(right.is_over() && wrong.is_over()) {
        let news = [right.hear(), wrong.hear()];
        for (person, news) in people.iter_mut().zip(&news) {
            person.look(news);
        }
        assert!(begun.elapsed() < PATIENCE, "{:#?}", wrong.seen);
        thread::sleep(Duration::from_millis(20));
    }
    assert_eq!((right.end(), wrong.end()), (0, 0));
    let done: Vec<String> = [&right, &wrong].map(|one| one.units("unit-done")).concat();
    let names: BTreeSet<&String> = done.iter().collect();
    assert_eq!((done.len(), names.len()), (12, 12), "{done:?}");
    for station in [&right, &wrong] {
        assert!(!station.units("unit-done").is_empty());
        assert_eq!(station.units("unit-failed"), [""; 0]);
    }
    let ahead = wrong.seen.iter().any(|line| {
        let wrong_by = line["wrong_by_seconds"].as_i64();
        line["event"] == "clock" && wrong_by.is_some_and(|by| (3590..3610).contains(&by))
    });
    assert!(ahead, "{:#?}", wrong.seen);
    assert!(right.seen.iter().all(|line| line["event"] != "clock"));
}

/// Somebody takes the card out, or the reader with it, while it is being written.
#[test]
fn a_card_that_is_pulled_is_no_unit() {
    let bench = bench(2, &slow_rack(2, 3, "8MB"));
    let mut running = Running::start(&bench, "rack.toml", &[]);
    running.wait_until_it_waits();
    let mut rack = Rack::open(&bench.path("rack.toml")).unwrap();
    rack.insert("c001", "r1").unwrap();
    let pulled = running.wait_for("unit-started")["unit"].clone();
    thread::sleep(Duration::from_millis(400));
    rack.remove("c001").unwrap();
    let failed = running.wait_for("unit-failed");
    assert_eq!(failed["unit"], pulled, "{failed}");
    let mut person = Person::new(&bench, "rack.toml", 2..=3);
    assert_eq!(person.serve(&mut running), 0, "{:#?}", running.seen);
    all_are_done(&bench, &running, &["--rack", "rack.toml"], 2);
    let begins = bench.read("c001.img");
    assert!(begins[..512].iter().all(|byte| *byte == 0));
}

/// The disk of the spool has no room: each medium unpacks the image by itself.
#[test]
fn a_small_disk_needs_no_spool() {
    let bench = bench(2, &rack(2, 2, &[]));
    let spool = bench.path("records/spool");
    std::fs::create_dir_all(&spool).unwrap();
    let place = spool.display().to_string();
    let mounted = bench.judge("mount", &["-t", "tmpfs", "-o", "size=24m", "tmpfs", &place]);
    if mounted.is_none_or(|run| run.code != 0) {
        return;
    }
    let mut running = Running::start(&bench, "rack.toml", &[]);
    let mut person = Person::new(&bench, "rack.toml", 1..=2);
    let code = person.serve(&mut running);
    let unmounted = bench.judge("umount", &[&place]);
    assert_eq!(unmounted.map(|run| run.code), Some(0));
    assert_eq!(code, 0, "{:#?}", running.seen);
    let spooled = running.seen.iter().find(|line| line["event"] == "spooled");
    let why = spooled.and_then(|line| line["why"].as_str());
    assert!(
        why.is_some_and(|why| why.contains("25.17 MB free")),
        "{spooled:?}"
    );
    all_are_done(&bench, &running, &["--rack", "rack.toml"], 2);
}

/// The disk with the ledger is full: the card is good all the same.
#[test]
fn a_ledger_on_a_full_disk_makes_no_card_bad() {
    let bench = bench(1, &rack(1, 1, &[]));
    let write = [
        "--ledger",
        "/dev/full",
        "write",
        "hut.img.zst",
        "--to",
        "card.img",
        "--size",
        "192MiB",
    ];
    let run = bench.run(&write).expect(0);
    assert!(
        run.stderr.contains("the record is kept here"),
        "{}",
        run.stderr
    );
    let run = bench.run(&["ledger", "list"]).expect(0);
    assert!(run.stdout.contains("card.img"), "{}", run.stdout);
}

/// Over a network the ledger is reached by TLS, and only a server that is what it says it is.
#[test]
fn a_server_must_be_vouched_for() {
    let Some(server) = Server::start() else {
        return;
    };
    let papers = Papers::new();
    server.secure(&papers.key.serialize_pem(), &papers.certificate.pem());
    let bench = Bench::new();
    let root = bench.write("root.pem", &papers.root);
    let near = server.database().replace("127.0.0.1", "localhost");
    let secured = format!("{near}?sslmode=require");
    let list = |root: Option<&Path>, ledger: &str| {
        let mut command = bench.command(&["--ledger", ledger, "ledger", "list"]);
        if let Some(root) = root {
            command.env("SSL_CERT_FILE", root);
        }
        Run::from(command.output().unwrap())
    };
    list(Some(&root), &secured).expect(0);
    let refused = list(None, &secured).expect(1);
    assert!(refused.stderr.contains("certificate"), "{}", refused.stderr);
    // The right root, but another name.
    let other = secured.replace("localhost", "127.0.0.1");
    let refused = list(Some(&root), &other).expect(1);
    assert!(refused.stderr.contains("certificate"), "{}", refused.stderr);
}
