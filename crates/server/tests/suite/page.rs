//! See below.
