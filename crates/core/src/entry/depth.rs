//! How deep a file nests and how much it stands for, before it is read: readers that call themselves
//! would run out of stack, and a few hundred bytes of shared lists stand for billions of values.

use crate::limits;

/// Refuses a text whose brackets nest too deep; what stands in double quotes does not count.
///
/// # Errors
/// In words.
pub fn refuse_brackets(text: &str) -> Result<(), String> {
    let (mut depth, mut deepest) = (0_usize, 0);
    let mut letters = text.bytes();
    while let Some(letter) = letters.next() {
        match letter {
            b'[' | b'{' => depth += 1,
            b']' | b'}' => depth = depth.saturating_sub(1),
            b'"' => {
                while let Some(inside) = letters.next() {
                    match inside {
                        b'\\' => drop(letters.next()),
                        b'"' | b'\n' => break,
                        _ => {}
                    }
                }
            }
            _ => {}
        }
        deepest = deepest.max(depth);
    }
    too_deep(deepest)
}

/// Refuses XML whose lists and maps nest too deep.
///
/// # Errors
/// In words.
pub fn refuse_elements(text: &str) -> Result<(), String> {
    let (mut depth, mut deepest) = (0_usize, 0);
    for element in text.split('<').skip(1) {
        match element.strip_prefix('/') {
            Some(_) => depth = depth.saturating_sub(1),
            None if element.starts_with(['!', '?']) || element.contains("/>") => {}
            None => depth += 1,
        }
        deepest = deepest.max(depth);
    }
    // Around the outermost list stands the document's own element, and a key or value in the innermost.
    too_deep(deepest.saturating_sub(2))
}

fn too_deep(deepest: usize) -> Result<(), String> {
    match deepest > limits::DEPTH {
        true => Err(format!("it nests {deepest} deep; {} is the most", limits::DEPTH)),
        false => Ok(()),
    }
}

/// A binary property list, as far as its objects refer to each other ("bplist00": a trailer of 32 bytes
/// tells where a table of offsets stands; the high half of an object's first byte tells its kind).
struct Objects<'b> {
    bytes: &'b [u8],
    offset_bytes: usize,
    reference_bytes: usize,
    objects: usize,
    table: usize,
}

/// What an object stands for: values, and how deep they nest.
type Weight = (usize, usize);

impl Objects<'_> {
    fn number(&self, at: usize, bytes: usize) -> Option<usize> {
        let found = self.bytes.get(at..at.checked_add(bytes)?)?;
        let most = usize::BITS.div_ceil(8);
        if u32::try_from(found.len()).ok()? > most {
            return None;
        }
        Some(found.iter().fold(0, |sum, byte| sum << 8 | usize::from(*byte)))
    }

    /// The objects that one refers to; none for what is no list or map.
    fn members(&self, object: usize) -> Option<Vec<usize>> {
        let at = self.number(self.table + object * self.offset_bytes, self.offset_bytes)?;
        let mark = *self.bytes.get(at)?;
        let per_member = match mark >> 4 {
            0xA..=0xC => 1,
            0xD => 2,
            _ => return Some(Vec::new()),
        };
        let (count, start) = match mark & 0xF {
            0xF => {
                let width = 1 << (self.bytes.get(at + 1)? & 0xF).min(4);
                (self.number(at + 2, width)?, at + 2 + width)
            }
            few => (usize::from(few), at + 1),
        };
        let references = count.checked_mul(per_member)?;
        let end = references.checked_mul(self.reference_bytes)?.checked_add(start)?;
        if end > self.bytes.len() {
            return None;
        }
        let reference =
            |n: usize| self.number(start + n * self.reference_bytes, self.reference_bytes);
        (0..references).map(reference).collect()
    }

    /// What all of it stands for, shared objects counted wherever they are used.
    fn weigh(&self, top: usize) -> Result<(), String> {
        let odd = || "its objects contradict each other".to_owned();
        let mut known: Vec<Option<Weight>> = vec![None; self.objects];
        // Objects that are being weighed, each with what is still to be looked at below it.
        let mut open: Vec<(usize, Vec<usize>)> = vec![(top, self.members(top).ok_or_else(odd)?)];
        while let Some((object, left)) = open.last_mut() {
            if let Some(member) = left.pop() {
                if open.iter().any(|(above, _)| *above == member) {
                    return Err("it holds itself".to_owned());
                }
                let is_known = known.get(member).ok_or_else(odd)?.is_some();
                if !is_known {
                    open.push((member, self.members(member).ok_or_else(odd)?));
                    too_deep(open.len().saturating_sub(1))?;
                }
                continue;
            }
            let object = *object;
            open.pop();
            let below = self.members(object).ok_or_else(odd)?;
            let mut weight: Weight = (1, 0);
            for member in below {
                let (values, depth) = known.get(member).copied().flatten().unwrap_or_default();
                weight = (weight.0.saturating_add(values), weight.1.max(depth + 1));
            }
            too_deep(weight.1)?;
            if weight.0 > limits::VALUES {
                return Err(format!("it stands for more than {} values", limits::VALUES));
            }
            *known.get_mut(object).ok_or_else(odd)? = Some(weight);
        }
        Ok(())
    }
}

/// Refuses a binary property list that nests too deep, holds itself, or stands for too much.
///
/// # Errors
/// In words.
pub fn refuse_binary(bytes: &[u8]) -> Result<(), String> {
    let odd = || "it is cut short".to_owned();
    let start = bytes.len().checked_sub(32).ok_or_else(odd)?;
    let (offset_bytes, reference_bytes) =
        (usize::from(bytes[start + 6]), usize::from(bytes[start + 7]));
    let all = Objects { bytes, offset_bytes, reference_bytes, objects: 0, table: 0 };
    let number = |at: usize| all.number(start + at, 8).ok_or_else(odd);
    let (objects, top, table) = (number(8)?, number(16)?, number(24)?);
    // Every object takes at least one byte, and one offset.
    if offset_bytes == 0 || reference_bytes == 0 || objects > bytes.len() || top >= objects.max(1) {
        return Err("its trailer is damaged".to_owned());
    }
    let all = Objects { objects, table, ..all };
    all.weigh(top)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Lists of two references to the next one each: 2 to the power of `levels` values.
    fn doubling(levels: u8) -> Vec<u8> {
        let mut bytes = b"bplist00".to_vec();
        let mut offsets = Vec::new();
        for level in 0..levels {
            offsets.push(bytes.len() as u8);
            bytes.extend([0xA2, level + 1, level + 1]);
        }
        offsets.push(bytes.len() as u8);
        bytes.push(0x09);
        let table = bytes.len() as u64;
        bytes.extend(&offsets);
        bytes.extend([0, 0, 0, 0, 0, 0, 1, 1]);
        for number in [u64::from(levels) + 1, 0, table] {
            bytes.extend(number.to_be_bytes());
        }
        bytes
    }

    #[test]
    fn what_nests_too_deep_or_stands_for_too_much_is_refused() {
        assert_eq!(refuse_binary(&doubling(15)), Ok(()));
        assert!(refuse_binary(&doubling(40)).unwrap_err().contains("stands for more"));
        let mut own = doubling(3);
        own[9] = 0;
        assert!(refuse_binary(&own).unwrap_err().contains("itself"));
        let deep = |open: &str, close: &str, n: usize| open.repeat(n) + &close.repeat(n);
        assert!(refuse_brackets(&deep("[", "]", 64)).is_ok());
        assert!(refuse_brackets(&deep("{\"[[[\":", "}", 64)).is_ok());
        assert!(refuse_brackets(&deep("[", "]", 100_000)).is_err());
        let plist = |n| format!("<plist>{}</plist>", deep("<array>", "</array>", n));
        assert!(refuse_elements(&plist(60)).is_ok());
        assert!(refuse_elements(&plist(100_000)).is_err());
        for cut in 0..60 {
            let bytes = doubling(8);
            let _ = refuse_binary(&bytes[..bytes.len().saturating_sub(cut)]);
        }
    }
}
