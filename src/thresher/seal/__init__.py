"""The seal: a short code on paper that ties a report to the rows of the stored job that it speaks of.

It is signed with the shop's own key (Ed25519). Nothing here prints or draws; `report` puts the seal into files.
"""
