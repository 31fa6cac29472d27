//! A queue of blocks as one stream: how bytes go from one thread to the next.

use std::io::{self, Read};
use std::sync::Arc;

use crossbeam_channel::Receiver;

/// Bytes passed from one thread to another, shared if several want them.
pub type Block = Arc<Vec<u8>>;

/// The blocks of a queue as one stream. It ends when the queue is closed.
#[derive(Debug)]
pub struct BlockReader {
    blocks: Receiver<io::Result<Block>>,
    current: Block,
    used: usize,
}

impl BlockReader {
    /// A stream of what comes out of `blocks`.
    pub fn new(blocks: Receiver<io::Result<Block>>) -> Self {
        Self {
            blocks,
            current: Block::default(),
            used: 0,
        }
    }
}

impl Read for BlockReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.used == self.current.len() {
            match self.blocks.recv() {
                Ok(block) => self.current = block?,
                Err(_) => return Ok(0),
            }
            self.used = 0;
        }
        let len = buffer.len().min(self.current.len() - self.used);
        buffer[..len].copy_from_slice(&self.current[self.used..self.used + len]);
        self.used += len;
        Ok(len)
    }
}
