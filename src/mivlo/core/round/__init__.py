"""The round: what is to be judged over a whole session, first what is heard in the mix."""
