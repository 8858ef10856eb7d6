//! The pieces that a tokeniser knows, found by their bytes.

/// A hash table of pieces. Those that go on with a word are kept apart from those that begin one.
pub struct Vocabulary {
    /// The bytes of all pieces, without the mark of a continuation.
    bytes: Vec<u8>,
    /// The end of each piece; a piece begins at the end of the one before.
    ends: Vec<u32>,
    /// Token plus one by hash, or zero; a piece is in the first free slot from its own on.
    slots: Vec<u32>,
    /// Whether each piece continues a word.
    continues: Vec<bool>,
    longest: usize,
}

/// FNV-1a, which grows byte by byte: the hashes of all beginnings of a word come out on the way.
const FNV_START: u64 = 0xcbf2_9ce4_8422_2325;
const FNV_PRIME: u64 = 0x0100_0000_01b3;

impl Vocabulary {
    /// Creates a vocabulary of pieces in the order of their tokens. Those that go on with a word begin with `mark`.
    pub fn new<'a>(pieces: impl IntoIterator<Item = &'a str>, mark: &str) -> Self {
        let mut new =
            Self { bytes: Vec::new(), ends: Vec::new(), slots: Vec::new(), continues: Vec::new(), longest: 0 };
        for piece in pieces {
            let continued = piece.strip_prefix(mark).filter(|rest| !rest.is_empty() && !mark.is_empty());
            let bytes = continued.unwrap_or(piece).as_bytes();
            new.longest = new.longest.max(bytes.len());
            new.bytes.extend_from_slice(bytes);
            new.ends.push(new.bytes.len() as u32);
            new.continues.push(continued.is_some());
        }
        new.slots = vec![0; (new.ends.len() * 2).next_power_of_two().max(2)];
        for token in 0..new.ends.len() {
            let hash = new.piece(token).iter().fold(start(new.continues[token]), |hash, &byte| add(hash, byte));
            let mut slot = new.slot(hash);
            while new.slots[slot] != 0 {
                slot = (slot + 1) % new.slots.len();
            }
            new.slots[slot] = token as u32 + 1;
        }
        new
    }

    /// Returns the pieces in the order of their tokens, each on a line; those that go on with a word begin with `##`.
    pub fn to_text(&self) -> String {
        let mut text = String::with_capacity(self.bytes.len() + self.ends.len() * 2);
        for token in 0..self.ends.len() {
            text.push_str(if self.continues[token] { "##" } else { "" });
            text.push_str(&String::from_utf8_lossy(self.piece(token)));
            text.push('\n');
        }
        text
    }

    fn piece(&self, token: usize) -> &[u8] {
        let from = token.checked_sub(1).map_or(0, |before| self.ends[before] as usize);
        &self.bytes[from..self.ends[token] as usize]
    }

    fn slot(&self, hash: u64) -> usize {
        (hash ^ hash >> 32) as usize & (self.slots.len() - 1)
    }

    fn find(&self, hash: u64, bytes: &[u8], continues: bool) -> Option<u32> {
        let mut slot = self.slot(hash);
        loop {
            let token = self.slots[slot].checked_sub(1)?;
            if self.continues[token as usize] == continues && self.piece(token as usize) == bytes {
                return Some(token);
            }
            slot = (slot + 1) & (self.slots.len() - 1);
        }
    }

    /// Returns the longest piece that `text` begins with, and its length in bytes.
    pub fn longest_start(&self, text: &str, continues: bool, hashes: &mut Vec<u64>) -> Option<(u32, usize)> {
        let bytes = &text.as_bytes()[..text.len().min(self.longest)];
        hashes.clear();
        let mut hash = start(continues);
        hashes.extend(bytes.iter().map(|&byte| {
            hash = add(hash, byte);
            hash
        }));
        let lengths = (1..=bytes.len()).rev().filter(|&length| text.is_char_boundary(length));
        lengths.filter_map(|length| Some((self.find(hashes[length - 1], &bytes[..length], continues)?, length))).next()
    }
}

fn start(continues: bool) -> u64 {
    if continues { add(FNV_START, b'#') } else { FNV_START }
}

fn add(hash: u64, byte: u8) -> u64 {
    (hash ^ u64::from(byte)).wrapping_mul(FNV_PRIME)
}
