//! Named tensors in files of the safetensors format: the length of a header, the header in JSON, the numbers.
//!
//! The files that [`TensorWriter`] makes have the same format. Their header is padded with blanks, so that each tensor begins
//! at a multiple of 64 bytes. Their bytes depend on the tensors only.

use std::borrow::Cow;
use std::collections::BTreeMap;

use bytemuck::Pod;
use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

use crate::half::from_half;

/// The alignment of tensors in these files.
const ALIGNMENT: usize = 64;

#[derive(Serialize, Deserialize)]
struct Entry {
    dtype: String,
    shape: Vec<usize>,
    data_offsets: [usize; 2],
}

/// The tensors of some files.
#[derive(Default)]
pub struct Tensors {
    entries: BTreeMap<String, (Entry, Cow<'static, [u8]>)>,
}

impl Tensors {
    /// Adds the tensors of a file.
    ///
    /// # Errors
    /// If the file does not have the format, or says that a tensor lies outside of it.
    // A slice would not tell whether the bytes live as long as the program.
    #[allow(clippy::ptr_arg)]
    pub fn add_file(&mut self, file: &str, bytes: &Cow<'static, [u8]>) -> Result<()> {
        let broken =
            |what: String| Error::new(ErrorKind::Unreadable, format!("{what}; get the file again")).at(file.to_owned());
        let length = bytes.first_chunk::<8>().map(|length| u64::from_le_bytes(*length));
        let length = length.and_then(|length| usize::try_from(length).ok()).filter(|&length| length < bytes.len());
        let header = length.and_then(|length| bytes.get(8..8 + length));
        let Some(header) = header else {
            return Err(broken(format!("its {} bytes are too few for the header that it announces", bytes.len())));
        };
        let header_end = 8 + header.len();
        let header: BTreeMap<String, serde_json::Value> =
            serde_json::from_slice(header).map_err(|e| broken("its header is not JSON".to_owned()).because(e))?;
        for (name, value) in header {
            if name == "__metadata__" {
                continue;
            }
            let entry: Entry = serde_json::from_value(value)
                .map_err(|e| broken(format!("its header does not say where tensor “{name}” is")).because(e))?;
            let size = element_size(&entry.dtype)
                .and_then(|size| entry.shape.iter().try_fold(size, |size, &length| size.checked_mul(length)));
            let [from, to] = entry.data_offsets;
            let range = from.checked_add(header_end).zip(to.checked_add(header_end));
            let range = range.filter(|&(from, to)| from <= to && to <= bytes.len() && size == Some(to - from));
            let Some((from, to)) = range else {
                let message = format!(
                    "tensor “{name}” ({}, {:?}) does not fit its place, bytes {from} to {to}",
                    entry.dtype, entry.shape
                );
                return Err(broken(message));
            };
            let data = match bytes {
                Cow::Borrowed(bytes) => Cow::Borrowed(&bytes[from..to]),
                Cow::Owned(bytes) => Cow::Owned(bytes[from..to].to_vec()),
            };
            self.entries.insert(name, (entry, data));
        }
        Ok(())
    }

    /// Returns `true` if there is a tensor with a name.
    pub fn has(&self, name: &str) -> bool {
        self.entries.contains_key(name)
    }

    /// Returns the names of all tensors.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.entries.keys().map(String::as_str)
    }

    /// Returns the shape of a tensor; `None` if there is none.
    pub fn shape(&self, name: &str) -> Option<&[usize]> {
        self.entries.get(name).map(|(entry, _)| entry.shape.as_slice())
    }

    fn find(&self, name: &str, shape: &[usize]) -> Result<(&str, &Cow<'static, [u8]>)> {
        let Some((entry, data)) = self.entries.get(name) else {
            return Err(Error::new(ErrorKind::Unreadable, format!("tensor “{name}” is missing from the weights")));
        };
        if entry.shape != shape {
            let message = format!("tensor “{name}” is of shape {:?} and not {shape:?}", entry.shape);
            return Err(Error::new(ErrorKind::Unreadable, message));
        }
        Ok((&entry.dtype, data))
    }

    /// Returns a tensor as it is in the file. It is not copied if the file is part of the program.
    ///
    /// # Errors
    /// If there is none, or it has another shape or type.
    pub fn exact<T: Pod + Element>(&self, name: &str, shape: &[usize]) -> Result<Cow<'static, [T]>> {
        let (dtype, data) = self.find(name, shape)?;
        if dtype != T::DTYPE {
            let message = format!("tensor “{name}” holds numbers of type {dtype} and not {}", T::DTYPE);
            return Err(Error::new(ErrorKind::Unreadable, message));
        }
        Ok(match data {
            Cow::Borrowed(bytes) => match bytemuck::try_cast_slice(bytes) {
                Ok(values) => Cow::Borrowed(values),
                Err(_) => Cow::Owned(bytemuck::pod_collect_to_vec(bytes)),
            },
            Cow::Owned(bytes) => Cow::Owned(bytemuck::pod_collect_to_vec(bytes)),
        })
    }

    /// Returns a tensor as 32-bit numbers, from any floating-point type of the file.
    ///
    /// # Errors
    /// If there is none, it has another shape or no floating-point type, or a number is not finite.
    pub fn floats(&self, name: &str, shape: &[usize]) -> Result<Vec<f32>> {
        let (dtype, data) = self.find(name, shape)?;
        let pairs = || data.chunks_exact(2).map(|two| u16::from_le_bytes([two[0], two[1]]));
        let values: Vec<f32> = match dtype {
            "F32" => {
                data.chunks_exact(4).map(|four| f32::from_le_bytes([four[0], four[1], four[2], four[3]])).collect()
            }
            "F16" => pairs().map(from_half).collect(),
            "BF16" => pairs().map(|bits| f32::from_bits(u32::from(bits) << 16)).collect(),
            other => {
                let message = format!("tensor “{name}” holds numbers of type {other}; F32, F16 and BF16 are read");
                return Err(Error::new(ErrorKind::Unsupported, message));
            }
        };
        match values.iter().position(|value| !value.is_finite()) {
            None => Ok(values),
            Some(at) => {
                let message = format!("tensor “{name}”: number {at} is {}; get the file again", values[at]);
                Err(Error::new(ErrorKind::Unreadable, message))
            }
        }
    }
}

/// A type of number that a packed tensor may hold.
pub trait Element {
    /// Its name in the format.
    const DTYPE: &'static str;
}

impl Element for i8 {
    const DTYPE: &'static str = "I8";
}

impl Element for u8 {
    const DTYPE: &'static str = "U8";
}

impl Element for f32 {
    const DTYPE: &'static str = "F32";
}

fn element_size(dtype: &str) -> Option<usize> {
    Some(match dtype {
        "BOOL" | "U8" | "I8" => 1,
        "F16" | "BF16" | "I16" | "U16" => 2,
        "F32" | "I32" | "U32" => 4,
        "F64" | "I64" | "U64" => 8,
        _ => return None,
    })
}

/// Makes a file of tensors.
#[derive(Default)]
pub struct TensorWriter {
    entries: Vec<(String, Entry)>,
    data: Vec<u8>,
}

impl TensorWriter {
    /// Adds a tensor after the others. A tensor of zeros fills the gap before it, since the format has no holes.
    pub fn add<T: Pod + Element>(&mut self, name: &str, shape: &[usize], values: &[T]) {
        let missing = self.data.len().next_multiple_of(ALIGNMENT) - self.data.len();
        if missing > 0 {
            let name = format!("padding.{}", self.entries.len());
            self.push(name, "U8", &[missing], &vec![0; missing]);
        }
        self.push(name.to_owned(), T::DTYPE, shape, bytemuck::cast_slice(values));
    }

    fn push(&mut self, name: String, dtype: &str, shape: &[usize], bytes: &[u8]) {
        let from = self.data.len();
        self.data.extend_from_slice(bytes);
        let entry = Entry { dtype: dtype.to_owned(), shape: shape.to_vec(), data_offsets: [from, self.data.len()] };
        self.entries.push((name, entry));
    }

    /// Returns the file.
    ///
    /// # Errors
    /// If the header cannot be written, which does not happen with names of UTF-8.
    pub fn finish(self) -> Result<Vec<u8>> {
        let mut header = serde_json::Map::new();
        for (name, entry) in self.entries {
            let value = serde_json::to_value(entry);
            header
                .insert(name, value.map_err(|e| Error::new(ErrorKind::System, "a header was not written").because(e))?);
        }
        let mut header = serde_json::Value::Object(header).to_string().into_bytes();
        header.resize((header.len() + 8).next_multiple_of(ALIGNMENT) - 8, b' ');
        let mut file = (header.len() as u64).to_le_bytes().to_vec();
        file.extend(header);
        file.extend(self.data);
        Ok(file)
    }
}
