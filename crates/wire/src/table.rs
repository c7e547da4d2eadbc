//! The macro that makes an enum of frames, its codec, and its table out of one row for each kind.

use verax_core::access::Right;

use crate::field::FlagName;

/// A request of the protocol, for documents and tests.
#[derive(Debug, Clone, Copy)]
pub struct Operation {
    /// The kind in the header.
    pub kind: u8,
    /// The name in the documents.
    pub name: &'static str,
    /// The right the token needs; [`Needs::Nothing`] for requests about the connection.
    pub needs: Needs,
    /// Whether a batch may contain it.
    pub batched: bool,
    /// The names of the replies to it, beside *failed*.
    pub replies: &'static [&'static str],
    /// Its fields in their order.
    pub fields: &'static [FieldShape],
}

/// The rights that a request needs in its namespace.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Needs {
    /// None: it is about the connection.
    Nothing,
    /// One right.
    One(Right),
    /// One of two rights.
    Either(Right, Right),
    /// To read and to write.
    ReadAndWrite,
    /// What each of its parts needs.
    OfItsParts,
}

/// A reply or push of the protocol, for documents and tests.
#[derive(Debug, Clone, Copy)]
pub struct ReplyShape {
    /// The kind in the header.
    pub kind: u8,
    /// The name in the documents.
    pub name: &'static str,
    /// Whether a batch may contain it.
    pub batched: bool,
    /// Its fields in their order.
    pub fields: &'static [FieldShape],
}

/// A field, for the documents.
#[derive(Debug, Clone, Copy)]
pub struct FieldShape {
    /// Its name.
    pub name: &'static str,
    /// Its length and form; empty for a field of flags only.
    pub shape: &'static str,
    /// Its flags; a flag without a name has the field's.
    pub flags: &'static [FlagName],
}

/// Makes an enum of frames with `decode`, `encode`, `kind` and `flags`, and a table of them. A
/// row has the variant, its kind, its name and further columns, then its fields: each with its type
/// and, after `=>`, the [`Field`](crate::field::Field) that reads and writes it. Fields are written
/// in the order of the row.
macro_rules! frames {
    (
        $(#[doc = $enum_doc:literal])+
        $Enum:ident<$a:lifetime>, $table:ident: $Row:ident;
        $(
            $(#[doc = $doc:literal])+
            $Variant:ident = $kind:literal, $name:literal, { $($column:ident: $value:expr),* }
                $({ $($(#[doc = $field_doc:literal])+ $field:ident: $type:ty => $Field:ty,)+ })?
                $(( $inner:ident: $inner_type:ty ))?;
        )+
    ) => {
        $(#[doc = $enum_doc])+
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        pub enum $Enum<$a> {
            $(
                $(#[doc = $doc])+
                $Variant
                $({ $($(#[doc = $field_doc])+ $field: $type,)+ })?
                $(($inner_type))?,
            )+
        }

        /// Every kind of frame of this direction, in the order of the numbers.
        pub const $table: &[$Row] = $Enum::<'static>::TABLE;

        impl<$a> $Enum<$a> {
            const TABLE: &'static [$Row] = &[$($Row {
                kind: $kind,
                name: $name,
                $($column: $value,)*
                fields: &[
                    $($(FieldShape {
                        name: stringify!($field),
                        shape: <$Field as Field<$a>>::SHAPE,
                        flags: <$Field as Field<$a>>::FLAGS,
                    },)+)?
                    $(FieldShape {
                        name: stringify!($inner),
                        shape: <$inner_type as Field<$a>>::SHAPE,
                        flags: <$inner_type as Field<$a>>::FLAGS,
                    },)?
                ],
            }),+];

            /// Reads a frame.
            ///
            /// # Errors
            /// [`WireError`] for anything but exactly one frame of this direction.
            pub fn decode(head: Head, body: &$a [u8]) -> Result<Self, WireError> {
                #[allow(unused_mut)]
                let mut flags = Flags { kind: head.kind, bits: head.flags };
                let mut body = Reader(body);
                let frame = match head.kind {
                    $($kind => {
                        flags.check(&[
                            $($(<$Field as Field<$a>>::FLAGS,)+)?
                            $(<$inner_type as Field<$a>>::FLAGS,)?
                        ])?;
                        // Fields of a struct expression are evaluated in the order of the row.
                        Self::$Variant
                        $({ $($field: <$Field as Field<$a>>::read(
                            &mut flags, &mut body, stringify!($field),
                        )?,)+ })?
                        $((<$inner_type as Field<$a>>::read(
                            &mut flags, &mut body, stringify!($inner),
                        )?))?
                    })+
                    other => return Err(WireError::Kind(other)),
                };
                body.end()?;
                Ok(frame)
            }

            /// The kind in the header.
            pub const fn kind(&self) -> u8 {
                match self { $(Self::$Variant { .. } => $kind,)+ }
            }

            fn flags(&self) -> u8 {
                match self {
                    $(Self::$Variant $({ $($field,)+ })? $(($inner))? => {
                        0 $($(| <$Field as Field<$a>>::flags($field))+)?
                        $(| <$inner_type as Field<$a>>::flags($inner))?
                    })+
                }
            }

            #[allow(unused_variables)]
            fn write_body(&self, out: &mut Vec<u8>) {
                match self {
                    $(Self::$Variant $({ $($field,)+ })? $(($inner))? => {
                        $($(<$Field as Field<$a>>::write($field, out);)+)?
                        $(<$inner_type as Field<$a>>::write($inner, out);)?
                    })+
                }
            }

            /// Appends the frame.
            pub fn encode(&self, frame: Frame, out: &mut Vec<u8>) {
                frame::write(out, frame, self.kind(), self.flags(), |out| self.write_body(out));
            }

            /// Reads an element of a batch: kind, flags, length, and body.
            fn read_element(body: &mut &$a [u8], name: &'static str) -> Result<Self, WireError> {
                let mut reader = Reader(*body);
                let (kind, flags) = (reader.u8(name)?, reader.u8(name)?);
                if !$table.iter().any(|row| row.kind == kind && row.batched) {
                    return Err(WireError::Kind(kind));
                }
                let length = reader.u32(name)?;
                let element = reader.take(length as usize, name)?;
                *body = reader.0;
                Self::decode(Head { kind, flags, namespace: 0, id: 0 }, element)
            }

            /// Writes an element of a batch.
            fn write_element(&self, out: &mut Vec<u8>) {
                out.extend_from_slice(&[self.kind(), self.flags()]);
                let start = out.len();
                out.extend_from_slice(&[0; 4]);
                self.write_body(out);
                let length = (out.len() - start - 4) as u32;
                out[start..start + 4].copy_from_slice(&length.to_le_bytes());
            }
        }
    };
}

pub(crate) use frames;
