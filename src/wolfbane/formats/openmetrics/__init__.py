"""OpenMetrics: https://prometheus.io/docs/specs/om/open_metrics_spec/."""
