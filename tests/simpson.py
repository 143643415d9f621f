"""A path that stops, by Simpson's rule on fine grids: shares nothing with the library but its definitions."""

import numpy as np
from scipy import special


class Path:
    """Regions of going on are pieces on the scale of z; look by look under one drift."""

    def __init__(self, fractions, pieces, drift=0.0, points=1_501, start=(0.0, 0.0)):
        self.t, self.pieces, self.drift, self.points = np.asarray(fractions, float), pieces, drift, points
        self.begin, self.place = start
        self.gaps = np.sqrt(np.diff(self.t, prepend=self.begin))
        self.before = [(np.array([self.place]), np.ones(1))]
        for k, gap in enumerate(self.gaps):
            shift, (places, mass) = drift * gap**2, self.before[-1]
            centre, reach = self.place + drift * (self.t[k] - self.begin), 12 * np.sqrt(self.t[k])
            grids, weights, root = [np.zeros(1)], [np.zeros(1)], np.sqrt(self.t[k])
            for low, high in pieces[k]:
                bottom, top = max(low * root, centre - reach), min(high * root, centre + reach)
                if bottom >= top:
                    continue
                grid = np.linspace(bottom, top, points)
                w = np.ones(points)
                w[1:-1:2], w[2:-1:2] = 4, 2
                grids.append(grid)
                weights.append(w * (grid[1] - grid[0]) / 3)
            grid, w = np.concatenate(grids), np.concatenate(weights)
            z = (grid[:, None] - shift - places) / gap
            self.before.append((grid, np.exp(-0.5 * z * z) @ mass / (gap * np.sqrt(2 * np.pi)) * w))

    def above(self, k, z):
        """P(reached look k, Z_k > z)."""
        places, mass = self.before[k]
        return float(
            special.ndtr((places + self.drift * self.gaps[k] ** 2 - z * np.sqrt(self.t[k])) / self.gaps[k]) @ mass
        )

    def between(self, k, low, high):
        """P(reached look k, low < Z_k < high)."""
        return self.above(k, low) - self.above(k, high)

    @property
    def never(self):
        """P(not stopped by any look)."""
        return float(self.before[-1][1].sum())


def pieces_of(b):
    """The pieces of going on of our boundaries, from their public fields."""
    found = []
    for k in range(b.z.size):
        if b.futility is None or b.futility[k] == -np.inf:
            found.append([(b.lower[k], b.z[k])])
        elif b.sides == 2:
            found.append([(b.lower[k], -b.futility[k]), (b.futility[k], b.z[k])])
        else:
            found.append([(max(b.lower[k], b.futility[k]), b.z[k])])
    return found
