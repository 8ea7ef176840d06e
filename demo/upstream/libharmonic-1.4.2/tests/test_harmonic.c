/* SPDX-License-Identifier: MIT */
#include "harmonic.h"

#include <math.h>
#include <stdio.h>

int main(void)
{
	/* The principal lunar tide alone: high water at 0 h, and 12.42 h later. */
	const struct harmonic_constituent m2 = {1.5, 28.984104, 0};
	double high = harmonic_height(2.0, &m2, 1, 0);
	double next = harmonic_next_high(2.0, &m2, 1, 1);
	if (fabs(high - 3.5) > 1e-9 || fabs(next - 12.4206) > 0.02) {
		fprintf(stderr, "high water %.3f m, the next at %.3f h\n", high, next);
		return 1;
	}
	puts("harmonic: 2 checks passed");
	return 0;
}
