//! A small SSH server on the loopback interface, which answers the questions of a commission and nothing else.

use std::borrow::Cow;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use pinewrit_boot::commission::{FIRST_LINE, questions};
use russh::keys::PrivateKey;
use russh::keys::ssh_key::private::{Ed25519Keypair, KeypairData};
use russh::server::{
    Auth, ChannelOpenHandle, Config, Handler, Msg, PublicKeyOffer, Server as _, Session,
    VerifiedPublicKey,
};
use russh::{Channel, ChannelId, MethodKind, MethodSet, SshId};
use tokio::net::TcpListener;

use crate::content::Content;

/// The longest script that is taken, in bytes.
const LONGEST: usize = 64 << 10;
/// What it says to all other commands.
const NO_SHELL: &str =
    "this is a stand-in for a board: it has no shell, and answers `pinewrit commission` only\n";

/// A running server; it ends when dropped.
pub(crate) struct SshServer {
    pub(crate) port: u16,
    stop: Option<tokio::sync::oneshot::Sender<()>>,
    thread: Option<std::thread::JoinHandle<()>>,
}

impl SshServer {
    /// Starts it at a port that is free.
    pub(crate) fn start(
        content: Arc<Mutex<Content>>,
        key: PrivateKey,
        accepts_passwords: bool,
    ) -> std::io::Result<Self> {
        let runtime = tokio::runtime::Builder::new_current_thread()
            .enable_all()
            .build()?;
        let at = SocketAddr::from((Ipv4Addr::LOCALHOST, 0));
        let listener = runtime.block_on(TcpListener::bind(at))?;
        let port = listener.local_addr()?.port();
        let (stop, stopped) = tokio::sync::oneshot::channel();
        let mut methods = vec![MethodKind::PublicKey];
        if accepts_passwords {
            methods.push(MethodKind::Password);
        }
        let config = Arc::new(Config {
            server_id: SshId::Standard(Cow::Borrowed("SSH-2.0-Pinewrit_stand-in")),
            methods: MethodSet::from(methods.as_slice()),
            keys: vec![key],
            auth_rejection_time: Duration::from_millis(200),
            auth_rejection_time_initial: Some(Duration::ZERO),
            ..Config::default()
        });
        let thread = std::thread::spawn(move || {
            runtime.block_on(async move {
                let mut board = Board { content };
                tokio::select! {
                    _ = board.run_on_socket(config, &listener) => {}
                    _ = stopped => {}
                }
            });
        });
        Ok(Self {
            port,
            stop: Some(stop),
            thread: Some(thread),
        })
    }
}

impl Drop for SshServer {
    fn drop(&mut self) {
        if let Some(stop) = self.stop.take() {
            // It has ended by itself, then.
            let _ = stop.send(());
        }
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// A key of a seed.
pub(crate) fn key_of(seed: &[u8; 32]) -> Option<PrivateKey> {
    let pair = Ed25519Keypair::from_seed(seed);
    PrivateKey::new(KeypairData::Ed25519(pair), "stand-in").ok()
}

struct Board {
    content: Arc<Mutex<Content>>,
}

impl russh::server::Server for Board {
    type Handler = Guest;

    fn new_client(&mut self, _: Option<SocketAddr>) -> Guest {
        Guest {
            content: Arc::clone(&self.content),
            user: String::new(),
            script: Vec::new(),
        }
    }
}

/// Somebody who has connected.
struct Guest {
    content: Arc<Mutex<Content>>,
    user: String,
    script: Vec<u8>,
}

impl Guest {
    fn knows(&self, user: &str, key: &russh::keys::PublicKey) -> Auth {
        let content = self.content.lock().unwrap_or_else(|e| e.into_inner());
        match content
            .logins(user)
            .iter()
            .any(|own| own.key_data() == key.key_data())
        {
            true => Auth::Accept,
            false => Auth::reject(),
        }
    }

    fn answer(&self) -> String {
        let script = String::from_utf8_lossy(&self.script);
        if !script.starts_with(FIRST_LINE) {
            return NO_SHELL.to_owned();
        }
        let as_root = script.lines().any(|line| line == "sudo=yes");
        let content = self.content.lock().unwrap_or_else(|e| e.into_inner());
        content.answers(&questions(&script), &self.user, as_root)
    }
}

impl Handler for Guest {
    type Error = russh::Error;

    async fn auth_publickey_offered(
        &mut self,
        user: &str,
        offer: PublicKeyOffer<'_>,
    ) -> Result<Auth, Self::Error> {
        Ok(self.knows(user, offer.public_key))
    }

    async fn auth_publickey(
        &mut self,
        user: &str,
        key: VerifiedPublicKey<'_>,
    ) -> Result<Auth, Self::Error> {
        let auth = self.knows(user, key.public_key);
        user.clone_into(&mut self.user);
        Ok(auth)
    }

    async fn channel_open_session(
        &mut self,
        _: Channel<Msg>,
        reply: ChannelOpenHandle,
        _: &mut Session,
    ) -> Result<(), Self::Error> {
        reply.accept().await;
        Ok(())
    }

    async fn exec_request(
        &mut self,
        channel: ChannelId,
        command: &[u8],
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        session.channel_success(channel)?;
        if command != b"sh -s" {
            session.data(channel, NO_SHELL.as_bytes().to_vec())?;
            session.exit_status_request(channel, 127)?;
            session.close(channel)?;
        }
        Ok(())
    }

    async fn shell_request(
        &mut self,
        channel: ChannelId,
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        session.channel_success(channel)?;
        session.data(channel, NO_SHELL.replace('\n', "\r\n").into_bytes())?;
        session.exit_status_request(channel, 127)?;
        session.close(channel)
    }

    async fn data(
        &mut self,
        _: ChannelId,
        data: &[u8],
        _: &mut Session,
    ) -> Result<(), Self::Error> {
        let room = LONGEST.saturating_sub(self.script.len()).min(data.len());
        self.script.extend(&data[..room]);
        Ok(())
    }

    async fn channel_eof(
        &mut self,
        channel: ChannelId,
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        session.data(channel, self.answer().into_bytes())?;
        session.exit_status_request(channel, 0)?;
        session.eof(channel)?;
        session.close(channel)
    }
}
