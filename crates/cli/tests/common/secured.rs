//! The stand-in server behind TLS, with a certificate that only its own root vouches for.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use std::thread;

use rcgen::{BasicConstraints, Certificate, CertificateParams, CertifiedIssuer, IsCa, KeyPair};
use rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};
use rustls::{ServerConfig, ServerConnection, StreamOwned};

/// A key of `localhost`, its certificate, and the root that vouches for it, as PEM.
pub(crate) struct Papers {
    pub(crate) key: KeyPair,
    pub(crate) certificate: Certificate,
    pub(crate) root: String,
}

impl Papers {
    pub(crate) fn new() -> Self {
        let mut params = CertificateParams::new(Vec::new()).unwrap();
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let root = CertifiedIssuer::self_signed(params, KeyPair::generate().unwrap()).unwrap();
        let key = KeyPair::generate().unwrap();
        let own = CertificateParams::new(vec!["localhost".to_owned()]).unwrap();
        Self {
            certificate: own.signed_by(&key, &root).unwrap(),
            key,
            root: root.pem(),
        }
    }
}

/// A server of one file for everybody who asks.
pub(crate) struct SecuredServer {
    port: u16,
    /// The root's certificate, as PEM.
    pub(crate) root: String,
}

impl SecuredServer {
    pub(crate) fn of(file: Vec<u8>) -> Self {
        let papers = Papers::new();
        let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(papers.key.serialize_der()));
        let config =
            ServerConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
                .with_safe_default_protocol_versions()
                .unwrap()
                .with_no_client_auth()
                .with_single_cert(vec![papers.certificate.der().clone()], key)
                .unwrap();
        let (config, file) = (Arc::new(config), Arc::new(file));
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        thread::spawn(move || {
            for tcp in listener.incoming().flatten() {
                let (config, file) = (Arc::clone(&config), Arc::clone(&file));
                thread::spawn(move || answer(tcp, config, &file));
            }
        });
        Self {
            port,
            root: papers.root,
        }
    }

    pub(crate) fn url(&self, path: &str) -> String {
        format!("https://localhost:{}{path}", self.port)
    }
}

fn answer(tcp: TcpStream, config: Arc<ServerConfig>, file: &[u8]) {
    let connection = ServerConnection::new(config).unwrap();
    let mut stream = StreamOwned::new(connection, tcp);
    let mut asked = Vec::new();
    let mut block = [0; 4096];
    while !asked.windows(4).any(|end| end == b"\r\n\r\n") {
        match stream.read(&mut block) {
            Ok(len @ 1..) => asked.extend(&block[..len]),
            _ => return,
        }
    }
    let is_file = asked.starts_with(b"GET /os/hut.img ");
    let (status, body) = if is_file { (200, file) } else { (404, &[][..]) };
    let head = format!(
        "HTTP/1.1 {status} -\r\nContent-Length: {}\r\n\r\n",
        body.len()
    );
    let _ = stream.write_all(head.as_bytes());
    let _ = stream.write_all(body);
    stream.conn.send_close_notify();
    let _ = stream.flush();
}
