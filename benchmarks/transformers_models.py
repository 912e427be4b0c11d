"""Image classifiers of transformers with random weights: small ones, and the library's own default configurations."""

from __future__ import annotations

_TOKENS = {"hidden_size": 32, "num_hidden_layers": 2, "num_attention_heads": 2, "intermediate_size": 64}
_PATCHES = {**_TOKENS, "image_size": 32, "patch_size": 8}
_STAGES = {"hidden_sizes": [8, 16, 24, 32], "depths": [1, 1, 1, 1]}
_HEADS = {**_STAGES, "num_attention_heads": [1, 2, 2, 2]}
_WINDOWS = {"image_size": 64, "patch_size": 4, "embed_dim": 16, "depths": [1, 1], "num_heads": [2, 2], "window_size": 4}
SMALL: dict[str, dict] = {
    "Beit": _PATCHES,
    "Bit": {"embedding_size": 8, "hidden_sizes": [32] * 4, "depths": [1] * 4, "num_groups": 8},
    "CLIP": {"vision_config": _PATCHES},
    "ConvNext": _STAGES,
    "ConvNextV2": _STAGES,
    "Cvt": {"embed_dim": [16, 32, 48], "num_heads": [1, 2, 3], "depth": [1, 1, 2]},
    "Data2VecVision": _PATCHES,
    "DeiT": _PATCHES,
    "Dinov2": {**_TOKENS, "image_size": 32, "patch_size": 8, "mlp_ratio": 2},
    "Dinov2WithRegisters": {**_TOKENS, "image_size": 32, "patch_size": 8, "mlp_ratio": 2},
    "DonutSwin": _WINDOWS,
    "EfficientNet": {
        "width_coefficient": 0.3, "depth_coefficient": 0.3, "image_size": 64, "hidden_dim": 320,
    },
    "FocalNet": {
        "image_size": 64, "embed_dim": 16, "depths": [1, 1], "hidden_sizes": [16, 32], "focal_levels": [2, 2],
        "focal_windows": [3, 3],
    },
    "HGNetV2": {},
    "Hiera": {"embed_dim": 16, "image_size": [64, 64], "depths": [1, 1, 1, 1], "num_heads": [1, 2, 2, 2]},
    "IJepa": _PATCHES,
    "Levit": {"hidden_sizes": [32, 48, 64], "num_attention_heads": [2, 3, 4], "depths": [1] * 3, "key_dim": [8] * 3},
    "MobileNetV1": {"depth_multiplier": 0.25},
    "MobileNetV2": {"depth_multiplier": 0.35},
    "MobileViT": {"image_size": 64},
    "MobileViTV2": {"image_size": 64, "width_multiplier": 0.5},
    "PPLCNet": {"scale": 0.25},
    "PoolFormer": _STAGES,
    "Pvt": {"image_size": 64, **_HEADS},
    "PvtV2": {"image_size": 64, **_HEADS},
    "RegNet": {"embedding_size": 8, "groups_width": 4, **_STAGES},
    "ResNet": {"embedding_size": 8, **_STAGES},
    "Segformer": _HEADS,
    "Siglip": {"vision_config": _PATCHES},
    "SwiftFormer": {"embed_dims": [8, 16, 24, 32], "depths": [1, 1, 1, 1]},
    "Swin": _WINDOWS,
    "Swinv2": _WINDOWS,
    "TextNet": {},
    "ViT": _PATCHES,
    "ViTMSN": _PATCHES,
}  # fmt: skip
"""By the name of the class without its ending."""
_TWO_HEADS = {"DeiT": "ForImageClassificationWithTeacher"}
_SIDES = {"Levit": 224}
_DEFAULTS = 224


def names() -> list[str]:
    """Each class in both sizes: NAME/small and NAME/default."""
    return [f"{name}/{size}" for name in SMALL for size in ("small", "default")]


def model_of(name: str):
    """The model of a name, with five classes, in evaluation mode, and the side of its images in pixels."""
    import transformers

    stem, _, size = name.partition("/")
    settings = SMALL[stem] if size == "small" else {}
    configuration = getattr(transformers, f"{stem}Config")(**settings, num_labels=5)
    model = getattr(transformers, stem + _TWO_HEADS.get(stem, "ForImageClassification"))(configuration)
    side = getattr(getattr(configuration, "vision_config", configuration), "image_size", None) or _SIDES.get(stem)
    side = side[0] if isinstance(side, (list, tuple)) else side
    return model.eval(), side or (_DEFAULTS if size == "default" else 64)
