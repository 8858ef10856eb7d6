//! Tells whether fills are white, as far as that is known without colour profiles and functions.

use hayro_syntax::object::{Array, Dict, Name, Number, Object, Stream};
use hayro_syntax::page::Resources;

/// Each component of white is at least this much.
const WHITE: f32 = 0.98;
/// Fills that are less opaque than this are invisible.
const OPAQUE: f32 = 8.0 / 255.0;

/// A colour space, by what makes white in it (ISO 32000-2, 8.6).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Space {
    /// Lightness.
    Gray,
    /// Light.
    Rgb,
    /// Inks.
    Cmyk,
    /// Lightness in percent, and two axes of colour.
    Lab,
    /// Named inks.
    Inks,
    /// A palette, a pattern, or a space that is not known. Nothing in it counts as white.
    Other,
}

/// The paint of fills.
#[derive(Clone, Copy, Debug)]
pub(super) struct Fill {
    space: Space,
    is_white: bool,
    /// How opaque it is, from 0 to 1.
    pub alpha: f32,
}

impl Default for Fill {
    fn default() -> Self {
        Self { space: Space::Gray, is_white: false, alpha: 1.0 }
    }
}

impl Fill {
    /// Sets a space. Its first colour is black, or full ink.
    pub(super) fn set_space(&mut self, space: Space) {
        (self.space, self.is_white) = (space, false);
    }

    /// Sets a colour of the present space.
    pub(super) fn set_color(&mut self, components: &[Number]) {
        self.is_white = self.space.is_white(components);
    }

    /// Sets a space and a colour of it.
    pub(super) fn set(&mut self, space: Space, components: &[Number]) {
        self.space = space;
        self.set_color(components);
    }

    /// Sets a pattern.
    pub(super) fn set_pattern(&mut self) {
        self.is_white = false;
    }

    /// Returns `true` if a fill cannot be told from the page.
    pub(super) fn is_white(&self) -> bool {
        self.is_white || self.alpha < OPAQUE
    }
}

impl Space {
    /// Returns the space of a name: one of the standard's own, or one among the resources.
    pub(super) fn named(name: &Name<'_>, resources: &Resources<'_>) -> Self {
        Self::standard(name).or_else(|| Self::of(&resources.get_color_space(name)?)).unwrap_or(Self::Other)
    }

    fn standard(name: &[u8]) -> Option<Self> {
        Some(match name {
            b"DeviceGray" | b"G" | b"CalGray" => Self::Gray,
            b"DeviceRGB" | b"RGB" | b"CalRGB" => Self::Rgb,
            b"DeviceCMYK" | b"CMYK" => Self::Cmyk,
            b"Pattern" => Self::Other,
            _ => return None,
        })
    }

    fn of(object: &Object<'_>) -> Option<Self> {
        match object {
            Object::Name(name) => Self::standard(name),
            Object::Array(array) => {
                let family = array.iter::<Object<'_>>().next()?.into_name()?;
                match &*family {
                    b"ICCBased" => Self::of_profile(array),
                    b"Lab" => Some(Self::Lab),
                    b"Separation" | b"DeviceN" => Some(Self::Inks),
                    family => Self::standard(family),
                }
            }
            _ => None,
        }
    }

    /// Returns the space of a profile, by the number of its components.
    fn of_profile(array: &Array<'_>) -> Option<Self> {
        let profile: Stream<'_> = array.iter::<Object<'_>>().nth(1)?.into_stream()?;
        let dict: &Dict<'_> = profile.dict();
        match dict.get::<u8>("N")? {
            1 => Some(Self::Gray),
            3 => Some(Self::Rgb),
            4 => Some(Self::Cmyk),
            _ => None,
        }
    }

    fn is_white(self, components: &[Number]) -> bool {
        let values = || components.iter().map(Number::as_f32);
        let is_light = |value: f32| value > WHITE;
        let is_bare = |value: f32| value < 1.0 - WHITE;
        !components.is_empty()
            && match self {
                Self::Gray | Self::Rgb => values().all(is_light),
                Self::Cmyk | Self::Inks => values().all(is_bare),
                Self::Lab => components[0].as_f32() > 100.0 * WHITE && values().skip(1).all(|axis| axis.abs() < 3.0),
                Self::Other => false,
            }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(Space::Gray, &[1.0], true)]
    #[case(Space::Gray, &[0.9], false)]
    #[case(Space::Rgb, &[1.0, 1.0, 0.99], true)]
    #[case(Space::Rgb, &[1.0, 1.0, 0.0], false)]
    #[case(Space::Cmyk, &[0.0, 0.0, 0.0, 0.0], true)]
    #[case(Space::Cmyk, &[0.0, 0.0, 0.0, 1.0], false)]
    #[case(Space::Lab, &[100.0, 0.0, 0.0], true)]
    #[case(Space::Lab, &[100.0, 40.0, 0.0], false)]
    #[case(Space::Inks, &[0.0], true)]
    #[case(Space::Inks, &[0.4], false)]
    #[case(Space::Other, &[1.0], false)]
    #[case(Space::Gray, &[], false)]
    fn white_is_told_by_the_space(#[case] space: Space, #[case] components: &[f32], #[case] expected: bool) {
        let components: Vec<Number> = components.iter().map(|value| Number::from_f32(*value)).collect();
        let mut fill = Fill::default();
        fill.set(space, &components);
        assert_eq!(fill.is_white(), expected);
        fill.alpha = 0.0;
        assert!(fill.is_white());
    }
}
