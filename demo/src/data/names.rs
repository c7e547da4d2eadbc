//! Invented names: harbors, gauges, lines and vessels.

/// A harbor.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Harbor {
    /// Its identifier.
    pub id: u16,
    /// Its name in keys.
    pub slug: String,
    /// Its name.
    pub name: String,
}

/// A tide gauge.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Gauge {
    /// Its identifier.
    pub id: u16,
    /// Its name in keys.
    pub slug: String,
    /// The harbor it stands in.
    pub harbor: u16,
}

const FIRST: [&str; 24] = [
    "Alder", "Brine", "Corm", "Dulse", "Ever", "Fenn", "Gull", "Hollow", "Isk", "Jarl", "Kelp",
    "Lant", "Mew", "Norr", "Osk", "Pell", "Quill", "Ravel", "Salt", "Tarn", "Umber", "Vant",
    "Wrack", "Yarrow",
];
const LAST: [[&str; 2]; 3] = [["mouth", "haven"], ["wick", "sound"], ["ness", "holm"]];

/// All harbors, busiest first.
pub fn harbors() -> Vec<Harbor> {
    let named = (0..2).flat_map(|round| {
        FIRST.iter().enumerate().map(move |(at, first)| format!("{first}{}", LAST[at % 3][round]))
    });
    (1..).zip(named).map(|(id, name)| Harbor { id, slug: name.to_lowercase(), name }).collect()
}

/// All gauges: one in every second harbor.
pub fn gauges() -> Vec<Gauge> {
    let harbors = harbors();
    let of = |(id, harbor): (u16, &Harbor)| Gauge {
        id,
        slug: format!("{}-pier", harbor.slug),
        harbor: harbor.id,
    };
    (1..).zip(harbors.iter().step_by(2)).map(of).collect()
}

pub(super) const LINES: [(&str, &str); 12] = [
    ("AN1", "Northern Arc"),
    ("AN2", "Inner Arc"),
    ("BR4", "Breakwater Shuttle"),
    ("CO7", "Cormorant Line"),
    ("DL3", "Dulse Circuit"),
    ("EB5", "Ebb Line"),
    ("FL6", "Floodtide Express"),
    ("GA8", "Gannet Line"),
    ("HO2", "Holm Crossing"),
    ("KE9", "Kelp Coaster"),
    ("LA1", "Lantern Night Boat"),
    ("SK4", "Skerry Link"),
];

pub(super) const VESSELS: [(&str, u16); 20] = [
    ("Amber Petrel", 220),
    ("Blue Fulmar", 180),
    ("Copper Tern", 260),
    ("Dusk Heron", 140),
    ("Early Plover", 160),
    ("Far Skua", 320),
    ("Gray Dunlin", 120),
    ("High Shearwater", 380),
    ("Ivory Gull", 240),
    ("Jade Turnstone", 150),
    ("Kind Eider", 410),
    ("Long Curlew", 200),
    ("Moss Godwit", 170),
    ("North Avocet", 280),
    ("Old Razorbill", 130),
    ("Pale Sanderling", 190),
    ("Quiet Guillemot", 300),
    ("Red Knot", 210),
    ("Slate Cormorant", 350),
    ("True Gannet", 270),
];

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::*;

    #[test]
    fn slugs_are_distinct() {
        let harbors: HashSet<_> = harbors().into_iter().map(|h| h.slug).collect();
        let gauges: HashSet<_> = gauges().into_iter().map(|g| g.slug).collect();
        assert_eq!((harbors.len(), gauges.len()), (48, 24));
    }
}
