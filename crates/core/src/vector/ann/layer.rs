//! A layer of the graph: its nodes and their links.

/// Marks the unused links of a node.
pub const NOTHING: u32 = u32::MAX;

/// A number as it is stored in a segment.
pub type Word = [u8; 4];

/// A layer in a segment or in memory. The lowest has every row, and its nodes have the numbers of the rows.
#[derive(Clone, Copy)]
pub struct Layer<'a> {
    /// The row of each node; `None` in the lowest layer.
    pub rows: Option<&'a [Word]>,
    /// The number of each node in the layer below; empty in the lowest layer.
    pub below: &'a [Word],
    /// The links, `width` for each node.
    pub links: &'a [Word],
    pub width: usize,
}

impl<'a> Layer<'a> {
    /// Returns the number of nodes.
    pub fn nodes(&self) -> u32 {
        (self.links.len() / self.width.max(1)) as u32
    }

    /// Returns the row of a node.
    pub fn row(&self, node: u32) -> u32 {
        match self.rows {
            Some(rows) => rows.get(node as usize).map_or(NOTHING, |row| u32::from_le_bytes(*row)),
            None => node,
        }
    }

    /// Returns the number of a node in the layer below.
    pub fn below(&self, node: u32) -> u32 {
        self.below.get(node as usize).map_or(NOTHING, |below| u32::from_le_bytes(*below))
    }

    /// Returns the links of a node. Numbers past the end, which only damage can cause, are left out.
    pub fn links(&self, node: u32) -> impl Iterator<Item = u32> + 'a {
        let nodes = self.nodes();
        let links = self.links.get(node as usize * self.width..(node as usize + 1) * self.width).unwrap_or_default();
        let links = links.iter().map(|&link| u32::from_le_bytes(link));
        links.take_while(|&link| link != NOTHING).filter(move |&link| link < nodes)
    }
}

/// A set of numbers: a hash table with open addressing, at most half full.
pub struct Seen {
    places: Vec<u32>,
    held: usize,
}

impl Seen {
    /// Creates an empty set.
    pub fn new() -> Self {
        Self { places: vec![NOTHING; 2048], held: 0 }
    }

    /// Empties the set.
    pub fn clear(&mut self) {
        self.places.fill(NOTHING);
        self.held = 0;
    }

    /// Adds a number. Returns `true` if it is new.
    pub fn insert(&mut self, number: u32) -> bool {
        if self.held * 2 >= self.places.len() {
            let room = self.places.len() * 2;
            let before = std::mem::replace(&mut self.places, vec![NOTHING; room]);
            for number in before.into_iter().filter(|&number| number != NOTHING) {
                let place = self.place(number);
                self.places[place] = number;
            }
        }
        let place = self.place(number);
        let new = self.places[place] != number;
        self.places[place] = number;
        self.held += usize::from(new);
        new
    }

    /// Returns the place of a number, or the free place for it.
    fn place(&self, number: u32) -> usize {
        let last = self.places.len() - 1;
        let mut place = (number.wrapping_mul(0x9E37_79B1) >> 7) as usize & last;
        while self.places[place] != NOTHING && self.places[place] != number {
            place = (place + 1) & last;
        }
        place
    }
}
