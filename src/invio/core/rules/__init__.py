"""Who may have what, and on which terms.

- `decisions`: the rules in force, and their outcome for one question. `conditions`, `patterns`: what a rule goes by.
- `file`: the rules file. `proofs`: expectations about rules. `doubts`: what is odd about them.
- `terms`: how a file is delivered to who may have it. `quotas`: how much. `external_checks`: an application is asked.
"""
