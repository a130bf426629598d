//! What is said about a picture, whatever it is written as.

/// Creator, rights, description, keywords, rating.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct DescriptiveFields {
    /// Who made it.
    pub creator: String,
    /// Notice of rights.
    pub copyright: String,
    /// What it shows.
    pub caption: String,
    /// In the order they were given.
    pub keywords: Vec<String>,
    /// 0 none … 5.
    pub rating: u8,
    /// What stands beside these and is none of ours; only handed on with pixels that are carried over.
    pub others: Others,
}

/// What other programs say about a picture.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Others {
    /// XMP descriptions.
    pub(super) xmp: String,
    /// Datasets of IPTC's second record.
    pub(super) iptc: Vec<(u8, String)>,
}
