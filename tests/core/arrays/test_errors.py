"""The mistakes that people make in code: each is answered by one sentence that says what to write instead."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import PIL.Image
import pytest
import varlen as v

IMAGE = np.zeros((48, 64, 3), np.uint8)
TURN = v.Pipeline([v.Rotate()])


def render(image: Any = IMAGE, labels: Any = None, **more: Any) -> Any:
    return TURN.render(image, labels, **more)


def boxes(*rows: Any, **more: Any) -> v.Labels:
    return v.Labels(boxes=list(rows), **more)


def nested(more: dict[str, Any]) -> Any:
    return TURN.render_nested({"image": IMAGE, **more})


MISTAKES: dict[str, tuple[Callable[[], Any], str]] = {
    "floats 0-1": (lambda: render(np.full((48, 64, 3), 0.5)), "write (image * 255).round().astype(np.uint8)"),
    "floats 0-255": (lambda: render(np.full((48, 64, 3), 200.0)), "write image.round().clip(0, 255).astype(np.uint8)"),
    "16 bit": (lambda: render(IMAGE.astype(np.uint16)), "out.again(image)"),
    "truth values": (lambda: render(IMAGE > 3), "write image.astype(np.uint8) * 255"),
    "channels first": (lambda: render(IMAGE.transpose(2, 0, 1)), "write image.transpose(1, 2, 0)"),
    "no channels": (lambda: render(IMAGE[:, :, 0]), "write image[:, :, None]"),
    "four channels": (lambda: render(np.zeros((48, 64, 4), np.uint8)), "write image[:, :, :3]"),
    "many bands": (lambda: render(np.zeros((48, 64, 7), np.uint8)), "out.again(image)"),
    "no array": (lambda: render(object()), "write np.asarray(image)"),
    "no such file": (lambda: render("moth.jpg"), "moth.jpg: No such file"),
    "palette": (lambda: render(PIL.Image.new("P", (5, 5))), 'write image.convert("RGB")'),
    "split": (lambda: render(split="Train"), "is none of 'train', 'validation', 'test'"),
    "masks last": (lambda: v.Labels(boxes=[[1, 2, 9, 9]] * 2, masks=np.ones((48, 64, 2), bool)), "write masks.transpose(2, 0, 1)"),
    "masks last alone": (lambda: render(labels=v.Labels(masks=np.ones((48, 64, 2), bool))), "write masks.transpose(2, 0, 1)"),
    "branch": (lambda: v.Junction(branches=[v.Flip()]), "a branch is Branch(weight=1, steps=[Flip(…)])"),
    "no key": (lambda: TURN.move_labels(v.Labels(), (64, 48), key=""), "key=…"),
    "pixels of labels": (lambda: TURN.move_labels(v.Labels(), (64, 48), key="a").image, "write pipeline.render(image, labels, key=…)"),
    "batch of own": (lambda: v.batch([{"image": IMAGE}]), "np.stack"),  # type: ignore[typeddict-item]
    "normalize without figures": (lambda: v.Pipeline([v.Normalize()]).render(IMAGE).normalized, "write v.Normalize(mean=…, std=…)"),
    "no normalize": (lambda: render().normalized, "add v.Normalize(mean=…, std=…)"),
    "a list of steps": (lambda: v.Compose, "a list of steps is varlen.Pipeline([…])"),
    "floats": (lambda: v.ToFloat, 'range="0-1"'),
    "zoom": (lambda: v.Zoom, "that is done by varlen.Scale"),
    "boxes of some kind": (lambda: nested({"bbox": [[1, 2, 9, 9]]}), 'roles={"bbox": "xywh"}'),
    "labels beside classes": (lambda: nested({"boxes": [[1, 2, 9, 9]], "labels": ["a"], "classes": ["a"]}), "classes are at labels and at classes"),
    "mask of truth values": (lambda: nested({"mask": np.zeros((48, 64), bool)}), 'roles={"mask": "array_nearest"}'),
    "array of the picture's size": (lambda: nested({"disparity": np.zeros((48, 64))}), 'roles={"disparity": "array"}'),
    "array beside the dict": (lambda: nested({"boxes": [[1, 2, 9, 9]] * 2, "more": {"track": np.arange(2)}}), 'roles={"more.track": "per_object"}'),
    "empty": (lambda: render(IMAGE[:0]), "holds no pixel"),
    "xywh": (lambda: boxes([40, 20, 10, 10]), "write Labels.from_xywh(boxes)"),
    "shares": (lambda: boxes([0.1, 0.1, 0.4, 0.5]), "Labels.from_fractions(boxes, image)"),
    "px as shares": (lambda: v.Labels.from_centre_fractions([[30, 20, 10, 10]], IMAGE), "write Labels(boxes=…)"),
    "one box": (lambda: v.Labels(boxes=[1, 2, 3, 4]), "one box is [[x_min, y_min, x_max, y_max]]"),
    "outside": (lambda: render(labels=boxes([10, 10, 70, 30])), 'outside="clip"'),
    "point outside": (lambda: render(labels=v.Labels(keypoints=[[[70, 10, 2]]])), 'outside="keep"'),
    "outline outside": (lambda: render(labels=v.Labels(polygons=[[[1, 1], [90, 1], [4, 9]]])), 'outside="keep"'),
    "nan": (lambda: boxes([1, 2, float("nan"), 4]), "no numbers"),
    "lengths": (lambda: boxes([1, 2, 9, 9], classes=["a", "b"]), "1 boxes, 2 classes"),
    "classes as text": (lambda: boxes([1, 2, 9, 9], classes="moth"), "write ['moth']"),
    "classes alone": (lambda: v.Labels(classes=["moth"]), "Labels(image_classes=[…])"),
    "image classes as text": (lambda: v.Labels(image_classes="moth"), "a list of names"),
    "classes missing": (lambda: v.Dataset.from_arrays([("a", IMAGE, boxes([1, 2, 9, 9]))]), "write Labels(…, classes=[…])"),
    "classes as numbers": (lambda: v.Dataset.from_arrays([("a", IMAGE, boxes([1, 2, 9, 9], classes=[4]))]), "classes=[…]) with their names"),
    "same ids": (lambda: boxes([1, 2, 9, 9], [1, 2, 9, 9], ids=["a", "a"]), "more than once"),
    "labels as list": (lambda: render(labels=[[1, 2, 9, 9]]), "write Labels(boxes=…, classes=…)"),
    "masks 0 and 255": (lambda: v.Labels(masks=[np.full((48, 64), 255, np.uint8)]), "write masks > 127"),
    "masks as floats": (lambda: v.Labels(masks=[np.full((48, 64), 0.7)]), "write masks > 0.5"),
    "masks of another size": (lambda: render(labels=v.Labels(masks=[np.ones((8, 8), bool)])), "masks[0] is 8×8 px"),
    "points without visibility": (lambda: v.Labels(keypoints=[[[1, 2]]]), "x, y, visibility"),
    "points of another skeleton": (lambda: v.Labels(keypoints=[[[1, 2, 2]]], skeleton=["a", "b"]), "the skeleton names 2"),
    "two points of an outline": (lambda: v.Labels(polygons=[[[1, 1], [4, 4]]]), "at least three points"),
    "unknown step": (lambda: v.Pipeline([{"step": "zoom"}]), "that is done by 'scale'"),
    "step misspelled": (lambda: v.Pipeline([{"step": "rotat"}]), "did you mean 'rotate'?"),
    "p": (lambda: v.Rotate(p=0.5), "did you mean 'probability'?"),
    "angle": (lambda: v.Rotate(angle=5), "did you mean 'degrees'?"),
    "backwards": (lambda: v.Rotate(degrees=(12, -12)), "the range runs backwards: 12 is above -12"),
    "by place": (lambda: v.Rotate(12), "such as Rotate(degrees=…)"),
    "class for object": (lambda: v.Pipeline([v.Rotate]), "write Rotate()"),
    "a step for a list": (lambda: v.Pipeline(v.Rotate()), "Pipeline([Flip(), Rotate()])"),
    "partners": (lambda: v.Pipeline([v.Mosaic()]).render(IMAGE), "partners=[(image, labels), …]"),
    "window too large": (lambda: v.Pipeline([v.Crop(mode="window", width_px=99)]).render(IMAGE), "set beyond: pad"),
    "another size again": (lambda: render().again(np.zeros((9, 9))), "resize it to the picture's size first"),
    "fill": (lambda: render().again(np.zeros((48, 64), np.uint8), fill=-1), "fill -1 is not what uint8 holds"),
    "labels of a clip": (lambda: render([IMAGE, IMAGE], v.Labels()), "a list of as many Labels"),
    "frames of two sizes": (lambda: render([IMAGE, IMAGE[:9]]), "frames of one clip have one size"),
    "nothing nested": (lambda: TURN.render_nested({"picture_rgb": IMAGE}), "roles="),
    "variant": (lambda: render(variant=-1), "a whole number from 0"),
    "strip": (lambda: v.strip(v.Rotate, "angle", IMAGE), "did you mean 'degrees'?"),
    "sheet's ending": (lambda: v.sheet(TURN, IMAGE, variants=1).save("sheet.gif"), "saved as .png"),
    "splits": (lambda: v.read_dataset("moths", splits="80-10-10"), "80/10/10"),
}


@pytest.mark.parametrize(("mistake", "said"), MISTAKES.values(), ids=MISTAKES)
def test_one_sentence_says_what_to_write_instead(mistake: Callable[[], Any], said: str) -> None:
    with pytest.raises((v.VarlenError, AttributeError)) as caught:
        mistake()
    message = str(caught.value)
    assert said in message
    assert "\n" not in message
    assert len(message) < 260


MEANT = {"Zoom": "varlen.Scale", "HorizontalFlip": "varlen.Flip", "Rotat": "varlen.Rotate", "rotate": "varlen.Rotate",
         "RandomCrop": "varlen.Crop", "xyzzy": "dir(varlen)"}  # fmt: skip


@pytest.mark.parametrize(("name", "said"), MEANT.items())
def test_a_name_that_is_not_there_names_the_one_that_was_meant(name: str, said: str) -> None:
    with pytest.raises(AttributeError, match=said.replace("(", r"\(").replace(")", r"\)")):
        getattr(v, name)


@pytest.mark.parametrize("outside", ["clip", "keep"])
def test_labels_that_reach_out_are_cut_or_counted_as_chosen(outside: Any) -> None:
    labels = v.Labels(boxes=[[40, 10, 80, 30], [50, 20, 10, 10], [200, 10, 220, 30]], classes=["a", "b", "c"], outside=outside)
    out = v.Pipeline([]).render(IMAGE, labels)
    assert out.boxes.tolist() == [[40.0, 10.0, 64.0, 30.0]]
    assert [loss.id for loss in out.lost] == [1, 2] or [loss.id for loss in out.lost] == [2, 1]
    assert {loss.step for loss in out.lost} == {"source"}
    assert len(out.clipped) == (outside == "keep")
