"""The service: its API, sessions, settings, running and mounting.

- Beginning: `settings`, `store_settings`, `configuration`; `open_stores`, `parts_of_settings` and `assembly`; `run`,
  `supervising`, `running`; `mounting` inside an application, `offline` and `checking` without a service.
- One application: `app`, `probes`, `behind`; what is loaded when it is asked for: `api`, `routes`, `guard`,
  `long_bodies`, `dependencies`, `queries`, `validation`, `description`.
- What is asked for: `files`, `putting`, `bundles`, `links`, `link_explanations`, `short_links`, `transfers`,
  `transfer_facts`, `receipts`, `following`, `history`, `history_summary`, `decisions`, `access_matrix`, `rules`,
  `rules_trial`, `sealing_keys`, `recipients`, `console_sessions`, `quotas`, `sessions`, `auditing`, `operators`,
  `service_state`, `webhooks`; in the shapes of `asked`, `schemas`, `people_schemas`, `operating_schemas` and
  `webhook_schemas`.
- Pages: `console`; `listing_pages`, `pickup_pages`, `sign_in_page`, with `page_parts`.
- What goes on beside: `health`, `audit`, `reloading`, `peers`, `streams`, `planners`, `slow_requests`, `scanning`,
  `retention`, `webhook_sender`, `webhook_posts`, `signing`, `external_checks`, `provider`, `foreign_answers`,
  `deciding`, `passwords`, `permissions`, `proving`, `backup`, `unfinished`, `made_files`, `link_maker`.
"""
