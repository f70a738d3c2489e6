//! Values of ours as bytes and texts. They are made of plain data, so that writing them cannot fail: were one that cannot be written taken for
//! nothing, an empty record would look whole.

use serde::Serialize;

/// Packs a value.
///
/// # Panics
/// It is no plain data, which is a fault of ours.
pub fn packed_bytes<T: Serialize + ?Sized>(value: &T) -> Vec<u8> {
    postcard::to_stdvec(value).expect("plain data can be packed")
}

/// Writes a value as JSON, on one line.
///
/// # Panics
/// As for [`packed_bytes`].
pub fn json_text<T: Serialize + ?Sized>(value: &T) -> String {
    serde_json::to_string(value).expect("plain data can be written as JSON")
}
