using Vestige.Core.Alerts;
using Vestige.Engine.Alerting;
using Vestige.Engine.Supervision;
using Vestige.Web.Alerting;

namespace Vestige.Web.Api;

/// <summary>What needs somebody, over HTTP.</summary>
public static class AlertApi
{
    private const string By = "api";

    public static void Map(IEndpointRouteBuilder routes)
    {
        var group = routes.MapGroup("/api/v1/alerts").WithTags("alerts");
        group.MapGet("/", async (CrossingEngine engine, AlertStore store, Hosting.VestigeSettings settings, CancellationToken cancellation, bool standing = true, int limit = 100) =>
            (standing ? engine.Alerts!.Standing : await store.LatestAsync(Math.Clamp(limit, 1, 1000), cancellation)).Select(alert => Of(alert, settings))).WithSummary("What stands; with standing=false the latest, over or not.");
        group.MapPost("/{number:long}/acknowledge", async (long number, AcknowledgeBody body, CrossingEngine engine, CancellationToken cancellation) =>
        {
            await engine.Alerts!.AcknowledgeAsync(number, body.Note ?? "", body.By ?? By, cancellation);
            return Results.Ok(new { number });
        }).WithSummary("Says that somebody has seen it, with a note.");
        group.MapGet("/settings", (CrossingEngine engine) => engine.Alerts!.Settings).WithSummary("Rules, channels and quiet hours.");
        group.MapPut("/settings", PutAsync).WithSummary("Changes them; secrets of channels are given beside, and never read back.");
        group.MapGet("/stand-ins", (StandInPost standIn) => new { webhook = standIn.WebhookAddress, mail = standIn.MailPort is { } port ? $"127.0.0.1:{port}" : null }).WithSummary("Where the stand-ins that ship with the application take webhooks and mail.");
        group.MapPost("/channels/{name}/test", async (string name, CrossingEngine engine, AlertStore store, CancellationToken cancellation) =>
        {
            if (engine.Alerts!.Settings.Channels.All(channel => channel.Name != name))
            {
                return Problems.NotFound($"channel {name}");
            }

            await store.TestAsync(name, By, cancellation);
            return Results.Ok(new { name });
        }).WithSummary("Sends a test on a channel.");
    }

    private static async Task<IResult> PutAsync(AlertSettingsBody body, CrossingEngine engine, AlertStore store, CancellationToken cancellation)
    {
        var settings = new AlertSettings(body.Rules, body.Channels, body.Quiet);
        if (settings.Check() is { Count: > 0 } problems)
        {
            return Problems.Definition(problems);
        }

        await store.WriteSettingsAsync(settings, body.Secrets ?? new Dictionary<string, string>(), cancellation);
        engine.Alerts!.Use(settings);
        return Results.Ok(settings);
    }

    private static System.Text.Json.Nodes.JsonObject Of(Alert alert, Hosting.VestigeSettings settings)
    {
        var document = AlertText.Document(alert, $"{settings.Address}/crossings/{alert.Need.Crossing}");
        document["acknowledgedBy"] = alert.AcknowledgedBy;
        document["note"] = alert.Note;
        document["told"] = new System.Text.Json.Nodes.JsonArray([.. alert.ToldTo.Select(channel => (System.Text.Json.Nodes.JsonNode)channel)]);
        return document;
    }
}
