//! Blanks around values.

/// Takes blanks (space, tab, no-break space) off both ends.
#[inline]
pub fn trim(bytes: &[u8]) -> &[u8] {
    match (bytes.first(), bytes.last()) {
        (Some(&a), Some(&b)) if a > b' ' && b > b' ' && a != 0xC2 && b != 0xA0 => bytes,
        _ => trim_slow(bytes),
    }
}

#[cold]
fn trim_slow(mut bytes: &[u8]) -> &[u8] {
    loop {
        bytes = match bytes {
            [b' ' | b'\t' | b'\r' | b'\n', rest @ ..] | [0xC2, 0xA0, rest @ ..] => rest,
            [rest @ .., b' ' | b'\t' | b'\r' | b'\n'] | [rest @ .., 0xC2, 0xA0] => rest,
            _ => return bytes,
        }
    }
}
