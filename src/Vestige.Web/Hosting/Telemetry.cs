using OpenTelemetry;
using OpenTelemetry.Exporter;
using OpenTelemetry.Logs;
using OpenTelemetry.Resources;
using OpenTelemetry.Trace;
using Vestige.Engine.Measuring;

namespace Vestige.Web.Hosting;

/// <summary>
/// Traces and logs to a collector by OTLP over HTTP (<c>--otlp http://127.0.0.1:4318</c>), and logs as JSON on the console
/// (<c>--log-format json</c>). Without the first nothing is sent anywhere.
/// </summary>
public static class Telemetry
{
    public static void Add(WebApplicationBuilder builder)
    {
        ArgumentNullException.ThrowIfNull(builder);
        if (builder.Configuration["log-format"] == "json")
        {
            builder.Logging.ClearProviders().AddJsonConsole(options => options.UseUtcTimestamp = true);
        }

        if (builder.Configuration["otlp"] is not { Length: > 0 } collector)
        {
            return;
        }

        var address = new Uri(collector.TrimEnd('/') + "/");
        void To(OtlpExporterOptions options, string path) =>
            (options.Protocol, options.Endpoint) = (OtlpExportProtocol.HttpProtobuf, new Uri(address, path));
        builder
            .Services.AddOpenTelemetry()
            .ConfigureResource(resource => resource.AddService("vestige"))
            .WithTracing(tracing => tracing.AddSource(EngineTraces.Name).AddOtlpExporter(options => To(options, "v1/traces")))
            .WithLogging(logging => logging.AddOtlpExporter(options => To(options, "v1/logs")));
    }
}
