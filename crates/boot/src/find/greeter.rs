//! Greets SSH servers beside everything else, a few at once.

use std::collections::VecDeque;
use std::net::{IpAddr, SocketAddr};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::Duration;

use crate::ssh::{Greeting, greet};

/// So many doors of a network are knocked at in a round: some 100 a second.
pub(super) const A_ROUND: usize = 20;
/// So many at once.
const AT_ONCE: usize = 64;
/// How long somebody waits at a door.
const PATIENCE: Duration = Duration::from_secs(2);

/// An address and a port.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Door {
    pub(super) address: IpAddr,
    pub(super) port: u16,
}

type Heard = (Door, Option<Greeting>);

pub(super) struct Greeter {
    waiting: VecDeque<Door>,
    under_way: usize,
    send: Sender<Heard>,
    receive: Receiver<Heard>,
}

impl Greeter {
    pub(super) fn new() -> Self {
        let (send, receive) = channel();
        Self {
            waiting: VecDeque::new(),
            under_way: 0,
            send,
            receive,
        }
    }

    pub(super) fn greet(&mut self, door: Door) {
        self.waiting.push_back(door);
        self.go_on();
    }

    /// What was answered since.
    pub(super) fn heard(&mut self) -> Vec<Heard> {
        let heard: Vec<Heard> = self.receive.try_iter().collect();
        self.under_way -= heard.len();
        self.go_on();
        heard
    }

    fn go_on(&mut self) {
        while self.under_way < AT_ONCE {
            let Some(door) = self.waiting.pop_front() else {
                return;
            };
            self.under_way += 1;
            let send = self.send.clone();
            std::thread::spawn(move || {
                let answered = greet(SocketAddr::new(door.address, door.port), PATIENCE).ok();
                // Nobody listens any more once all are found.
                let _ = send.send((door, answered));
            });
        }
    }
}
