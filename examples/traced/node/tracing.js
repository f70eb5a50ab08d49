// All that makes the service tell of itself: OpenTelemetry's packages as their manual has them. Where spans go, and of
// which requests, is left to the environment (OTEL_EXPORTER_OTLP_ENDPOINT, OTEL_TRACES_SAMPLER).
const { NodeSDK } = require('@opentelemetry/sdk-node')
const { OTLPTraceExporter } = require('@opentelemetry/exporter-trace-otlp-http')
const { getNodeAutoInstrumentations } = require('@opentelemetry/auto-instrumentations-node')

new NodeSDK({
  traceExporter: new OTLPTraceExporter(),
  instrumentations: [getNodeAutoInstrumentations({ '@opentelemetry/instrumentation-fs': { enabled: false } })]
}).start()
