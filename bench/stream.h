#pragma once
/// MB (10^6 bytes) a second.
struct Stream {
  double copy_mb_s = 0, triad_mb_s = 0;
};
Stream stream(int threads, int runs);
