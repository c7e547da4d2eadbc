//! The order of last use: a doubly linked list over slot numbers.

/// No slot.
pub(super) const NONE: u32 = u32::MAX;

/// One slot's neighbours in the order of last use.
#[derive(Debug, Clone, Copy)]
pub(super) struct Link {
    more_recent: u32,
    less_recent: u32,
}

/// The order of last use of the slots it was told of.
#[derive(Debug)]
pub(super) struct Recency {
    links: Vec<Link>,
    most_recent: u32,
    least_recent: u32,
}

impl Default for Recency {
    fn default() -> Self {
        Self { links: Vec::new(), most_recent: NONE, least_recent: NONE }
    }
}

impl Recency {
    /// The slot that was not used for longest.
    pub(super) fn least_recent(&self) -> Option<u32> {
        (self.least_recent != NONE).then_some(self.least_recent)
    }

    /// Adds a slot that is not in the order yet, as the most recently used.
    pub(super) fn add(&mut self, slot: u32) {
        let alone = Link { more_recent: NONE, less_recent: NONE };
        if self.links.len() <= slot as usize {
            self.links.resize(slot as usize + 1, alone);
        }
        self.links[slot as usize] = Link { more_recent: NONE, less_recent: self.most_recent };
        match self.most_recent {
            NONE => self.least_recent = slot,
            first => self.links[first as usize].more_recent = slot,
        }
        self.most_recent = slot;
    }

    /// Takes a slot out of the order.
    pub(super) fn remove(&mut self, slot: u32) {
        let Link { more_recent, less_recent } = self.links[slot as usize];
        match more_recent {
            NONE => self.most_recent = less_recent,
            n => self.links[n as usize].less_recent = less_recent,
        }
        match less_recent {
            NONE => self.least_recent = more_recent,
            n => self.links[n as usize].more_recent = more_recent,
        }
    }

    /// Makes a slot of the order the most recently used.
    pub(super) fn touch(&mut self, slot: u32) {
        if self.most_recent != slot {
            self.remove(slot);
            self.add(slot);
        }
    }
}
