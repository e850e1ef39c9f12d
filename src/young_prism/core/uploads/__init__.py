"""Pictures that come one by one, from people and from programs: what may be changed, and what is refused."""
