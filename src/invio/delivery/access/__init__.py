"""Who asks, and what they may see.

- `authentication`: request head → caller. `catalogue`: all stores by name, and what of them a caller may see;
  `searching`: what is found below a folder, and in which order.
- `link_issuers`: who had a link made, whose quotas count what it gives.
"""
