"""What the demo's office has written down: its settings and its rules."""

ARCHIVE_KEY = "brackwater"

SETTINGS = '''\
# The demo's service.

[service]
data = "records"
keys = "keys.json"
rules = "rules.toml"
contact = "Ask the survey's chart desk, weekdays 8 to 16."
contact_link = "mailto:chart-desk@brackwater.example"

# The survey's own words on the pages without scripts.
[pages]
folder = "pages"

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

# Computed when it is asked for.
[[stores.tables.file]]
path = "tides/brackwater-pier-{year}.{format}"
function = "invio.demo.tides:table"
formats = ["csv", "jsonl"]
keep = "10m"
parameters.year = { choices = ["2026", "2027"], type = "integer" }

# Queried when it is asked for: stations as folders, months as files.
[[stores.tables.file]]
path = "gauges/{station}/{month}.{format}"
name = "Gauge {station}, {month}.{format}"
database = "sqlite:///gauges.sqlite"
query = """
    SELECT time_utc, level_m, water_c FROM readings
    WHERE station = :station AND substr(time_utc, 1, 7) = :month ORDER BY time_utc"""
formats = ["csv", "jsonl", "xlsx"]
parameters.station = { query = "SELECT DISTINCT station FROM readings" }
parameters.month = { query = "SELECT DISTINCT substr(time_utc, 1, 7) FROM readings WHERE station = :station" }

# What the loggers themselves wrote: BLOBs in a table of the survey's own database.
[stores.gauges]
kind = "table"
database = "sqlite:///gauges.sqlite"
table = "dumps"

[stores.gauges.columns]
key = "path"
content = "dump"
media_type = "kind"
modified = "taken"
description = "subject"
facts = ["station", "firmware"]

# For pages that show charts: ?rendition=thumb.
[renditions.thumb]
width = 320
height = 240
fit = "cover"
format = "webp"

[renditions.page]
width = 1200
height = 900

# On another system, a small stand-in for which 'invio demo' starts; large files are had there directly.
[stores.archive]
kind = "remote"
url = "survey-archive://127.0.0.1:PORT/"
options = { key = "brackwater" }
redirect = 300
'''
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
what = ["charts/soundings/**", "tables/gauges/**", "gauges/**", "archive/**"]
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

TEXTS = """\
name = "Brackwater Sound Survey"
footer = "Made-up data of an office that does not exist. Not for navigation."
listing = "Charts, notices, tide tables and sea-floor models of the sound."
pickup = "The survey has a file for you."
"""
