"""What the demo's office has written down: its settings and its rules."""

ARCHIVE_KEY = "brackwater"

SETTINGS = """\
# The demo's service.

[service]
data = "records"
keys = "keys.json"
rules = "rules.toml"
contact = "Ask the survey's chart desk, weekdays 8 to 16."
contact_link = "mailto:chart-desk@brackwater.example"

[stores.notices]
kind = "directory"
root = "files/notices"

[stores.charts]
kind = "directory"
root = "files/charts"

# Every model in versions, which researchers put.
[stores.models]
kind = "managed"
root = "files/models"

[stores.tables]
kind = "tables"

[[stores.tables.file]]
path = "tides/brackwater-pier-2026.csv"
function = "invio.demo.tides:this_year"

[[stores.tables.file]]
path = "tides/brackwater-pier-2027.csv"
function = "invio.demo.tides:next_year"

[[stores.tables.file]]
path = "gauges/readings-january.csv"
database = "sqlite:///gauges.sqlite"
query = "SELECT station, time_utc, level_m, water_c FROM readings ORDER BY time_utc, station"

# On another system, a small stand-in for which 'invio demo' starts; large files are had there directly.
[stores.archive]
kind = "remote"
url = "survey-archive://127.0.0.1:PORT/"
options = { key = "brackwater" }
redirect = 300
"""
RULES = """\
# Who may have what. Without a rule that allows, the answer is no; a deny wins; order does not matter.

[[rule]]
name = "notices are for everyone"
effect = "allow"
who = ["anyone"]
what = ["notices/**"]
actions = ["list", "read", "bundle"]
disposition = "inline"
cache = "public, max-age=300"

[[rule]]
name = "tide tables are for everyone"
effect = "allow"
who = ["anyone"]
what = ["tables/tides/**"]
actions = ["list", "read", "bundle"]

[[rule]]
name = "charts for pilots"
effect = "allow"
who = ["group:pilots"]
what = ["charts/**"]
actions = ["list", "read", "bundle"]

[[rule]]
name = "pilots may hand on approach charts"
effect = "allow"
who = ["group:pilots"]
what = ["charts/approach/**"]
actions = ["link"]

[[rule]]
name = "drafts are under embargo"
effect = "deny"
who = ["group:pilots", "group:researchers"]
what = ["charts/drafts/**"]
actions = ["list", "read", "bundle", "link"]

[[rule]]
name = "soundings and gauges for researchers"
effect = "allow"
who = ["group:researchers"]
what = ["charts/soundings/**", "tables/gauges/**", "archive/**"]
actions = ["list", "read", "bundle"]

[[rule]]
name = "researchers hand in models, and compare them with earlier ones"
effect = "allow"
who = ["group:researchers"]
what = ["models/**"]
actions = ["list", "read", "bundle", "put"]

[[rule]]
name = "newest models for pilots"
effect = "allow"
who = ["group:pilots"]
what = ["models/**"]
actions = ["list", "read", "bundle"]
version = "current"

[[rule]]
name = "researchers see which approach charts there are"
effect = "allow"
who = ["group:researchers"]
what = ["charts/approach/*"]
actions = ["list"]

[[rule]]
name = "the office has everything"
effect = "allow"
who = ["group:office"]
what = ["**"]
actions = ["list", "read", "bundle", "link", "put", "manage", "administer"]

# What is meant by all this; 'invio rules check' puts it to the rules.

[[expect]]
who = "anyone"
action = "read"
address = "notices/2026/001-north-channel-buoy.pdf"
outcome = "allowed"

[[expect]]
who = "anyone"
action = "read"
address = "charts/harbour/inner-basin.pdf"
outcome = "refused"

[[expect]]
who = "recipient:pilot-7"
action = "link"
address = "charts/approach/north-channel.pdf"
outcome = "allowed"

[[expect]]
who = "recipient:pilot-7"
action = "link"
address = "charts/harbour/inner-basin.pdf"
outcome = "refused"

[[expect]]
who = "group:researchers"
action = "read"
address = "charts/soundings/west-bank-5m.grid"
outcome = "allowed"

[[expect]]
who = "recipient:tern-lab"
action = "list"
address = "charts/drafts/west-bank-2027.pdf"
outcome = "refused"

[[expect]]
who = "recipient:pilot-7"
action = "read"
address = "models/west-bank/sea-floor.grid"
outcome = "allowed"

[[expect]]
who = "recipient:pilot-7"
action = "read"
address = "models/west-bank/sea-floor.grid"
version = "earlier"
outcome = "refused"

[[expect]]
who = "recipient:tern-lab"
action = "put"
address = "models/west-bank/sea-floor.grid"
outcome = "allowed"

[[expect]]
who = "recipient:harbour-office"
action = "manage"
address = "charts/drafts/west-bank-2027.pdf"
outcome = "allowed"
"""
