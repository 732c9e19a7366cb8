#!/usr/bin/env python3
"""Makes the invented seats from a measured profile: gclk seat --full --save FILE; assets/seats/make.py FILE.

None of these machines exists. Each is the measured seat with its costs multiplied by made-up factors for each kind of
work, so that the seats differ in shape and not only in speed.
"""
import json
import pathlib
import sys

SEATS = {
    "thin-laptop": dict(
        name="Thin laptop", processor="Invented mobile processor", processors=4, cores=4, memory=16e9, left=4,
        cache=8e6, screen=(2560, 1600), copy=24000, sustained=0.72, shared=0.0, side=0.8,
        factors=dict(decode=0.9, repair=1.25, effect=1.15, convert=1.0, other=1.05), accelerator=None,
        volumes=[("A", "solid state", 1500, 2400, 512e9, 60e9)]),
    "tower": dict(
        name="Tower with an accelerator", processor="Invented workstation processor", processors=16, cores=16, memory=128e9, left=12,
        cache=64e6, screen=(3840, 2160), copy=70000, sustained=0.97, shared=0.0, side=0.95,
        factors=dict(decode=0.45, repair=0.4, effect=0.38, convert=0.5, other=0.45),
        accelerator=("Invented graphics processor", 11000, 10500),
        volumes=[("A", "solid state", 2600, 3300, 4e12, 2.1e12), ("B", "rotating", 160, 190, 16e12, 9e12)]),
    "render-node": dict(
        name="Render node", processor="Invented server processor", processors=32, cores=32, memory=256e9, left=3,
        cache=96e6, screen=(0, 0), copy=140000, sustained=0.99, shared=0.0, side=0.9,
        factors=dict(decode=0.75, repair=0.65, effect=0.62, convert=0.7, other=0.7), accelerator=None,
        volumes=[("A", "network", 420, 480, 90e12, 31e12)]),
}


def main():
    measured = json.loads(pathlib.Path(sys.argv[1]).read_text())
    folder = pathlib.Path(__file__).parent
    for file, seat in SEATS.items():
        factors = seat["factors"]
        profile = {
            "glass_clock": "seat profile", "version": 1, "units": measured["units"], "name": seat["name"],
            "made": "2026-11-25T00:00:00Z", "invented": True,
            "machine": dict(processor=seat["processor"], processors=seat["processors"], cores=seat["cores"],
                            memory_bytes=int(seat["memory"]), memory_left_gb=seat["left"], last_level_cache_bytes=int(seat["cache"]),
                            screen_width=seat["screen"][0], screen_height=seat["screen"][1]),
            "background": dict(other_programs=0, stolen=0, shared_cores=seat["shared"]),
            "accelerator_trouble": "" if seat["accelerator"] else "there is no accelerator on this seat",
            "unknown": [], "eras": [],
            "memory": dict(copy_mb_s=seat["copy"], triad_mb_s=seat["copy"] * 1.08, array_bytes=400000000),
            "endurance": dict(seconds=60, burst=1, sustained=seat["sustained"], shared=seat["shared"], side_by_side=seat["side"],
                              first_mhz=0, last_mhz=0),
            "volumes": [dict(label=l, type=t, file_system="ext4", bytes=int(size), free_bytes=int(free), write_mb_s=w, read_mb_s=r,
                             read_again_mb_s=9000, readers_at_once=[], write_ms=dict(p50=1, p95=2, p99=6), page_cache_kept_out=True,
                             notes=[]) for l, t, w, r, size, free in seat["volumes"]],
            "forms": [], "laws": []}
        if seat["accelerator"]:
            name, up, down = seat["accelerator"]
            profile["accelerator"] = dict(name=name, up_mb_s=up, down_mb_s=down)
        for f in measured.get("forms", []):
            k, n = factors["decode"], seat["processors"]
            profile["forms"].append(dict(f, encode_ms=round(f["encode_ms"] * k, 3), decode_ms=round(f["decode_ms"] * k, 3), threads=n,
                                         encode_fps=round(f["encode_fps"] / k, 1),
                                         decode_fps=round(f["decode_fps"] / k * n / f["threads"] * seat["side"], 1)))
        for law in measured["laws"]:
            if len(law["places"]) < 3:
                continue
            k = factors.get(law["stage"], factors["other"])
            places = [dict(p, ms=round(p["ms"] * k, 4)) for p in law["places"][:24]]
            profile["laws"].append(dict(law, places=places, fixed_ms=0, ms_per_term={}, knee_mpixel=0, knee_ms_per_mpixel=0,
                                        spread=[round(0.97 + 0.004 * i, 3) for i in range(16)]))
        (folder / f"{file}.json").write_text(json.dumps(profile, ensure_ascii=False, separators=(",", ":")) + "\n")


main()
