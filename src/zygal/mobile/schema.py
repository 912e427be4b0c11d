"""The open schema of mobile flatbuffers (identifier TFL3, version 3) as data: tables, their fields in order, and the numbers of names.

A field is (name, kind) or (name, kind, default). Kinds are "bool", "i8" to "u64", "f32", "text", the name of a table, "[kind]" for
a vector, "union NAME" for a table whose sort the field before it tells by the numbers of UNIONS, and "" for a place that is no longer used.
"""

from __future__ import annotations

IDENTIFIER, VERSION = b"TFL3", 3
LARGEST_BYTES = 2**31 - 1
"""The format's offsets are 32 bits wide, and runtimes read them with a sign."""

TABLES: dict[str, tuple[tuple, ...]] = {
    "Model": (
        ("version", "u32"), ("operator_codes", "[OperatorCode]"), ("subgraphs", "[SubGraph]"), ("description", "text"), ("buffers", "[Buffer]"),
        ("metadata_buffer", "[i32]"), ("metadata", "[Metadata]"), ("signatures", "[SignatureDef]"), ("external_groups", "[ExternalBufferGroup]"),
        ("external_buffers", "[ExternalBuffer]"),
    ),
    "OperatorCode": (("deprecated_code", "i8"), ("custom_code", "text"), ("version", "i32", 1), ("code", "i32")),
    "SubGraph": (("tensors", "[Tensor]"), ("inputs", "[i32]"), ("outputs", "[i32]"), ("operators", "[Operator]"), ("name", "text"),
                 ("debug_place", "i32", -1)),
    "Tensor": (
        ("shape", "[i32]"), ("type", "i8"), ("buffer", "u32"), ("name", "text"), ("quantization", "QuantizationParameters"), ("is_variable", "bool"),
        ("sparsity", "SparsityParameters"), ("shape_signature", "[i32]"), ("has_rank", "bool"), ("variant_tensors", "[Variant]"), ("external_buffer", "u32"),
    ),
    "Variant": (),
    "ExternalBuffer": (),
    "ExternalBufferGroup": (),
    "QuantizationParameters": (
        ("min", "[f32]"), ("max", "[f32]"), ("scale", "[f32]"), ("zero_point", "[i64]"), ("details_type", "u8"), ("details", "union Details"),
        ("quantized_dimension", "i32"),
    ),
    "SparsityParameters": (("traversal_order", "[i32]"), ("block_map", "[i32]"), ("dimensions", "[DimensionMetadata]")),
    "DimensionMetadata": (
        ("format", "i8"), ("dense_size", "i32"), ("segments_type", "u8"), ("segments", "union Numbers"), ("indices_type", "u8"), ("indices", "union Numbers"),
    ),
    "Int32Vector": (("values", "[i32]"),),
    "Uint16Vector": (("values", "[u16]"),),
    "Uint8Vector": (("values", "[u8]"),),
    "Buffer": (("data", "[u8]"), ("offset", "u64"), ("size", "u64")),
    "Metadata": (("name", "text"), ("buffer", "u32")),
    "SignatureDef": (("inputs", "[TensorMap]"), ("outputs", "[TensorMap]"), ("key", "text"), ("", ""), ("subgraph", "u32")),
    "TensorMap": (("name", "text"), ("tensor", "u32")),
    "Operator": (
        ("opcode_index", "u32"), ("inputs", "[i32]"), ("outputs", "[i32]"), ("options_type", "u8"), ("options", "union Options"), ("custom_options", "[u8]"),
        ("custom_options_format", "i8"), ("mutating_variable_inputs", "[bool]"), ("intermediates", "[i32]"), ("large_custom_offset", "u64"),
        ("large_custom_size", "u64"), ("options_2_type", "u8"), ("options_2", "union Options2"), ("debug_place", "i32", -1),
    ),
}  # fmt: skip

METADATA_IDENTIFIER = b"M001"
METADATA_BUFFER = "TFLITE_METADATA"
"""The open metadata schema: a flatbuffer of its own in a buffer of this name, which says what tensors mean and which file holds the labels."""
AXIS_LABELS, VALUE_LABELS = 2, 3
RGB, GRAYSCALE = 1, 2
TABLES.update({
    "ModelMetadata": (
        ("name", "text"), ("description", "text"), ("version", "text"), ("subgraphs", "[SubGraphMetadata]"), ("author", "text"), ("license", "text"),
        ("associated_files", "[AssociatedFile]"), ("min_parser_version", "text"),
    ),
    "SubGraphMetadata": (
        ("name", "text"), ("description", "text"), ("inputs", "[TensorMetadata]"), ("outputs", "[TensorMetadata]"), ("associated_files", "[AssociatedFile]"),
        ("input_process_units", "[ProcessUnit]"), ("output_process_units", "[ProcessUnit]"), ("input_tensor_groups", "[Passed]"),
        ("output_tensor_groups", "[Passed]"), ("custom_metadata", "[Passed]"),
    ),
    "TensorMetadata": (
        ("name", "text"), ("description", "text"), ("dimension_names", "[text]"), ("content", "Content"), ("process_units", "[ProcessUnit]"),
        ("stats", "Stats"), ("associated_files", "[AssociatedFile]"),
    ),
    "AssociatedFile": (("name", "text"), ("description", "text"), ("type", "i8"), ("locale", "text"), ("version", "text")),
    "Content": (("properties_type", "u8"), ("properties", "union Content"), ("range", "Passed")),
    "ImageProperties": (("colour_space", "i8"), ("default_size", "Passed")),
    "ProcessUnit": (("options_type", "u8"), ("options", "union Process")),
    "NormalizationOptions": (("mean", "[f32]"), ("std", "[f32]")),
    "Stats": (("max", "[f32]"), ("min", "[f32]")),
    "Passed": None,
})  # fmt: skip
"""A table without a list of fields is passed over."""

_ACTIVATION = ("activation", "i8")
_STRIDES = (("stride_w", "i32"), ("stride_h", "i32"))
_DILATIONS = (("dilation_w", "i32", 1), ("dilation_h", "i32", 1))
OPTIONS: dict[int, tuple[str, tuple[tuple, ...]]] = {
    1: ("Conv2DOptions", (("padding", "i8"), *_STRIDES, _ACTIVATION, *_DILATIONS, ("quantized_bias_type", "i8"))),
    2: ("DepthwiseConv2DOptions", (("padding", "i8"), *_STRIDES, ("depth_multiplier", "i32"), _ACTIVATION, *_DILATIONS)),
    5: ("Pool2DOptions", (("padding", "i8"), *_STRIDES, ("filter_w", "i32"), ("filter_h", "i32"), _ACTIVATION)),
    8: ("FullyConnectedOptions", (_ACTIVATION, ("weights_format", "i8"), ("keep_num_dims", "bool"), ("asymmetric_quantize_inputs", "bool"),
                                  ("quantized_bias_type", "i8"))),
    9: ("SoftmaxOptions", (("beta", "f32"),)),
    10: ("ConcatenationOptions", (("axis", "i32"), _ACTIVATION)),
    11: ("AddOptions", (_ACTIVATION, ("pot_scale_int16", "bool", True))),
    12: ("L2NormOptions", (_ACTIVATION,)),
    13: ("LocalResponseNormalizationOptions", (("radius", "i32"), ("bias", "f32"), ("alpha", "f32"), ("beta", "f32"))),
    15: ("ResizeBilinearOptions", (("", ""), ("", ""), ("align_corners", "bool"), ("half_pixel_centers", "bool"))),
    17: ("ReshapeOptions", (("new_shape", "[i32]"),)),
    19: ("SpaceToDepthOptions", (("block_size", "i32"),)),
    21: ("MulOptions", (_ACTIVATION,)),
    22: ("PadOptions", ()),
    23: ("GatherOptions", (("axis", "i32"), ("batch_dims", "i32"))),
    24: ("BatchToSpaceNDOptions", ()),
    25: ("SpaceToBatchNDOptions", ()),
    26: ("TransposeOptions", ()),
    27: ("ReducerOptions", (("keep_dims", "bool"),)),
    28: ("SubOptions", (_ACTIVATION, ("pot_scale_int16", "bool", True))),
    29: ("DivOptions", (_ACTIVATION,)),
    30: ("SqueezeOptions", (("squeeze_dims", "[i32]"),)),
    32: ("StridedSliceOptions", (("begin_mask", "i32"), ("end_mask", "i32"), ("ellipsis_mask", "i32"), ("new_axis_mask", "i32"),
                                 ("shrink_axis_mask", "i32"), ("offset", "bool"))),
    33: ("ExpOptions", ()),
    34: ("TopKV2Options", ()),
    35: ("SplitOptions", (("num_splits", "i32"),)),
    36: ("LogSoftmaxOptions", ()),
    37: ("CastOptions", (("in_data_type", "i8"), ("out_data_type", "i8"))),
    38: ("DequantizeOptions", ()),
    39: ("MaximumMinimumOptions", ()),
    40: ("ArgMaxOptions", (("output_type", "i8"),)),
    41: ("LessOptions", ()),
    42: ("NegOptions", ()),
    43: ("PadV2Options", ()),
    44: ("GreaterOptions", ()),
    45: ("GreaterEqualOptions", ()),
    46: ("LessEqualOptions", ()),
    47: ("SelectOptions", ()),
    48: ("SliceOptions", ()),
    49: ("TransposeConvOptions", (("padding", "i8"), *_STRIDES, _ACTIVATION, ("quantized_bias_type", "i8"))),
    51: ("TileOptions", ()),
    52: ("ExpandDimsOptions", ()),
    53: ("EqualOptions", ()),
    54: ("NotEqualOptions", ()),
    55: ("ShapeOptions", (("out_type", "i8"),)),
    56: ("PowOptions", ()),
    57: ("ArgMinOptions", (("output_type", "i8"),)),
    58: ("FakeQuantOptions", (("min", "f32"), ("max", "f32"), ("num_bits", "i32"), ("narrow_range", "bool"))),
    59: ("PackOptions", (("values_count", "i32"), ("axis", "i32"))),
    60: ("LogicalOrOptions", ()),
    61: ("OneHotOptions", (("axis", "i32"),)),
    62: ("LogicalAndOptions", ()),
    63: ("LogicalNotOptions", ()),
    64: ("UnpackOptions", (("num", "i32"), ("axis", "i32"))),
    65: ("FloorDivOptions", ()),
    66: ("SquareOptions", ()),
    67: ("ZerosLikeOptions", ()),
    68: ("FillOptions", ()),
    72: ("FloorModOptions", ()),
    73: ("RangeOptions", ()),
    74: ("ResizeNearestNeighborOptions", (("align_corners", "bool"), ("half_pixel_centers", "bool"))),
    75: ("LeakyReluOptions", (("alpha", "f32"),)),
    76: ("SquaredDifferenceOptions", ()),
    77: ("MirrorPadOptions", (("mode", "i8"),)),
    78: ("AbsOptions", ()),
    79: ("SplitVOptions", (("num_splits", "i32"),)),
    81: ("ReverseV2Options", ()),
    82: ("AddNOptions", ()),
    83: ("GatherNdOptions", ()),
    84: ("CosOptions", ()),
    86: ("RankOptions", ()),
    89: ("QuantizeOptions", ()),
    91: ("HardSwishOptions", ()),
    94: ("DepthToSpaceOptions", (("block_size", "i32"),)),
    98: ("SelectV2Options", ()),
    99: ("DensifyOptions", ()),
    101: ("BatchMatMulOptions", (("adj_x", "bool"), ("adj_y", "bool"), ("asymmetric_quantize_inputs", "bool"))),
    102: ("CumsumOptions", (("exclusive", "bool"), ("reverse", "bool"))),
    104: ("BroadcastToOptions", ()),
    106: ("Conv3DOptions", (("padding", "i8"), ("stride_d", "i32"), *_STRIDES, _ACTIVATION, ("dilation_d", "i32", 1), *_DILATIONS)),
    116: ("GeluOptions", (("approximate", "bool"),)),
    123: ("SignOptions", ()),
}  # fmt: skip
"""The settings of operators, by the number that tells which table they are."""
TABLES.update(dict(OPTIONS.values()))
OPTION_NUMBERS = {name: number for number, (name, _) in OPTIONS.items()}
UNIONS: dict[str, dict[int, str]] = {
    "Options": {number: name for number, (name, _) in OPTIONS.items()},
    "Options2": {},
    "Details": {},
    "Numbers": {1: "Int32Vector", 2: "Uint16Vector", 3: "Uint8Vector"},
    "Content": {2: "ImageProperties"},
    "Process": {1: "NormalizationOptions"},
}

OPERATORS: dict[int, tuple[str, str | None]] = {
    0: ("ADD", "AddOptions"), 1: ("AVERAGE_POOL_2D", "Pool2DOptions"), 2: ("CONCATENATION", "ConcatenationOptions"), 3: ("CONV_2D", "Conv2DOptions"),
    4: ("DEPTHWISE_CONV_2D", "DepthwiseConv2DOptions"), 5: ("DEPTH_TO_SPACE", "DepthToSpaceOptions"), 6: ("DEQUANTIZE", "DequantizeOptions"),
    8: ("FLOOR", None), 9: ("FULLY_CONNECTED", "FullyConnectedOptions"), 11: ("L2_NORMALIZATION", "L2NormOptions"),
    12: ("L2_POOL_2D", "Pool2DOptions"), 13: ("LOCAL_RESPONSE_NORMALIZATION", "LocalResponseNormalizationOptions"), 14: ("LOGISTIC", None),
    17: ("MAX_POOL_2D", "Pool2DOptions"), 18: ("MUL", "MulOptions"), 19: ("RELU", None), 20: ("RELU_N1_TO_1", None), 21: ("RELU6", None),
    22: ("RESHAPE", "ReshapeOptions"), 23: ("RESIZE_BILINEAR", "ResizeBilinearOptions"), 25: ("SOFTMAX", "SoftmaxOptions"),
    26: ("SPACE_TO_DEPTH", "SpaceToDepthOptions"), 28: ("TANH", None), 34: ("PAD", "PadOptions"), 36: ("GATHER", "GatherOptions"),
    37: ("BATCH_TO_SPACE_ND", "BatchToSpaceNDOptions"), 38: ("SPACE_TO_BATCH_ND", "SpaceToBatchNDOptions"), 39: ("TRANSPOSE", "TransposeOptions"),
    40: ("MEAN", "ReducerOptions"), 41: ("SUB", "SubOptions"), 42: ("DIV", "DivOptions"), 43: ("SQUEEZE", "SqueezeOptions"),
    45: ("STRIDED_SLICE", "StridedSliceOptions"), 47: ("EXP", "ExpOptions"), 48: ("TOPK_V2", "TopKV2Options"), 49: ("SPLIT", "SplitOptions"),
    50: ("LOG_SOFTMAX", "LogSoftmaxOptions"), 53: ("CAST", "CastOptions"), 54: ("PRELU", None), 55: ("MAXIMUM", "MaximumMinimumOptions"),
    56: ("ARG_MAX", "ArgMaxOptions"), 57: ("MINIMUM", "MaximumMinimumOptions"), 58: ("LESS", "LessOptions"), 59: ("NEG", "NegOptions"),
    60: ("PADV2", "PadV2Options"), 61: ("GREATER", "GreaterOptions"), 62: ("GREATER_EQUAL", "GreaterEqualOptions"),
    63: ("LESS_EQUAL", "LessEqualOptions"), 64: ("SELECT", "SelectOptions"), 65: ("SLICE", "SliceOptions"), 66: ("SIN", None),
    67: ("TRANSPOSE_CONV", "TransposeConvOptions"), 69: ("TILE", "TileOptions"), 70: ("EXPAND_DIMS", "ExpandDimsOptions"),
    71: ("EQUAL", "EqualOptions"), 72: ("NOT_EQUAL", "NotEqualOptions"), 73: ("LOG", None), 74: ("SUM", "ReducerOptions"), 75: ("SQRT", None),
    76: ("RSQRT", None), 77: ("SHAPE", "ShapeOptions"), 78: ("POW", "PowOptions"), 79: ("ARG_MIN", "ArgMinOptions"),
    80: ("FAKE_QUANT", "FakeQuantOptions"), 81: ("REDUCE_PROD", "ReducerOptions"), 82: ("REDUCE_MAX", "ReducerOptions"), 83: ("PACK", "PackOptions"),
    84: ("LOGICAL_OR", "LogicalOrOptions"), 85: ("ONE_HOT", "OneHotOptions"), 86: ("LOGICAL_AND", "LogicalAndOptions"),
    87: ("LOGICAL_NOT", "LogicalNotOptions"), 88: ("UNPACK", "UnpackOptions"), 89: ("REDUCE_MIN", "ReducerOptions"), 90: ("FLOOR_DIV", "FloorDivOptions"),
    91: ("REDUCE_ANY", "ReducerOptions"), 92: ("SQUARE", "SquareOptions"), 93: ("ZEROS_LIKE", "ZerosLikeOptions"), 94: ("FILL", "FillOptions"),
    95: ("FLOOR_MOD", "FloorModOptions"), 96: ("RANGE", "RangeOptions"), 97: ("RESIZE_NEAREST_NEIGHBOR", "ResizeNearestNeighborOptions"),
    98: ("LEAKY_RELU", "LeakyReluOptions"), 99: ("SQUARED_DIFFERENCE", "SquaredDifferenceOptions"), 100: ("MIRROR_PAD", "MirrorPadOptions"),
    101: ("ABS", "AbsOptions"), 102: ("SPLIT_V", "SplitVOptions"), 104: ("CEIL", None), 105: ("REVERSE_V2", "ReverseV2Options"),
    106: ("ADD_N", "AddNOptions"), 107: ("GATHER_ND", "GatherNdOptions"), 108: ("COS", "CosOptions"), 110: ("RANK", "RankOptions"), 111: ("ELU", None),
    114: ("QUANTIZE", "QuantizeOptions"), 116: ("ROUND", None), 117: ("HARD_SWISH", "HardSwishOptions"), 123: ("SELECT_V2", "SelectV2Options"),
    124: ("DENSIFY", "DensifyOptions"), 126: ("BATCH_MATMUL", "BatchMatMulOptions"), 128: ("CUMSUM", "CumsumOptions"),
    130: ("BROADCAST_TO", "BroadcastToOptions"), 132: ("CONV_3D", "Conv3DOptions"), 140: ("REDUCE_ALL", "ReducerOptions"), 150: ("GELU", "GeluOptions"), 152: ("RELU_0_TO_1", None),
    158: ("SIGN", "SignOptions"),
}  # fmt: skip
"""The operators that are known here: name and the table of its settings, by number."""
OTHER_OPERATORS = {
    7: "EMBEDDING_LOOKUP", 10: "HASHTABLE_LOOKUP", 15: "LSH_PROJECTION", 16: "LSTM", 24: "RNN", 27: "SVDF", 29: "CONCAT_EMBEDDINGS", 30: "SKIP_GRAM",
    31: "CALL", 32: "CUSTOM", 33: "EMBEDDING_LOOKUP_SPARSE", 35: "UNIDIRECTIONAL_SEQUENCE_RNN", 44: "UNIDIRECTIONAL_SEQUENCE_LSTM", 46: "BIDIRECTIONAL_SEQUENCE_RNN",
    51: "DELEGATE", 52: "BIDIRECTIONAL_SEQUENCE_LSTM", 68: "SPARSE_TO_DENSE", 103: "UNIQUE", 109: "WHERE", 112: "REVERSE_SEQUENCE", 113: "MATRIX_DIAG",
    115: "MATRIX_SET_DIAG", 118: "IF", 119: "WHILE", 120: "NON_MAX_SUPPRESSION_V4", 121: "NON_MAX_SUPPRESSION_V5", 122: "SCATTER_ND", 125: "SEGMENT_SUM",
    129: "CALL_ONCE", 131: "RFFT2D", 133: "IMAG", 134: "REAL", 135: "COMPLEX_ABS", 136: "HASHTABLE", 137: "HASHTABLE_FIND",
    138: "HASHTABLE_IMPORT", 139: "HASHTABLE_SIZE", 141: "CONV_3D_TRANSPOSE", 142: "VAR_HANDLE", 143: "READ_VARIABLE", 144: "ASSIGN_VARIABLE",
    145: "BROADCAST_ARGS", 146: "RANDOM_STANDARD_NORMAL", 147: "BUCKETIZE", 148: "RANDOM_UNIFORM", 149: "MULTINOMIAL", 151: "DYNAMIC_UPDATE_SLICE",
    153: "UNSORTED_SEGMENT_PROD", 154: "UNSORTED_SEGMENT_MAX", 155: "UNSORTED_SEGMENT_SUM", 156: "ATAN2", 157: "UNSORTED_SEGMENT_MIN", 159: "BITCAST",
    160: "BITWISE_XOR", 161: "RIGHT_SHIFT", 203: "DILATE", 205: "REDUCE_WINDOW", 206: "STABLEHLO_COMPOSITE",
    **{code: "STABLEHLO operator" for code in (*range(162, 203), 204, 207, 208, 209)},
}  # fmt: skip
"""Names of operators that can only be named."""
CODES = {name: code for code, (name, _) in OPERATORS.items()}

DTYPES = {0: "float32", 1: "float16", 2: "int32", 3: "uint8", 4: "int64", 5: "string", 6: "bool", 7: "int16", 8: "complex64", 9: "int8", 10: "float64",
          11: "complex128", 12: "uint64", 13: "resource", 14: "variant", 15: "uint32", 16: "uint16", 17: "int4", 18: "bfloat16", 19: "int2",
          20: "uint4"}  # fmt: skip
DTYPE_NUMBERS = {name: number for number, name in DTYPES.items()}
SAME, VALID = 0, 1
ACTIVATIONS = {0: None, 1: "RELU", 2: "RELU_N1_TO_1", 3: "RELU6", 4: "TANH", 5: "SIGN_BIT"}
ACTIVATION_NUMBERS = {name: number for number, name in ACTIVATIONS.items()}
