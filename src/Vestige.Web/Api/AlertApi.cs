using System.Text.Json;
using System.Text.Json.Nodes;
using Vestige.Core.Alerts;
using Vestige.Engine.Alerting;
using Vestige.Engine.Commands;
using Vestige.Web.Alerting;
using Vestige.Web.Api.Describing;
using Vestige.Web.Api.Documents;

namespace Vestige.Web.Api;

/// <summary>What needs someone, over HTTP.</summary>
public static class AlertApi
{
    private const string By = "api";

    public static void Map(IEndpointRouteBuilder routes)
    {
        var group = routes.MapGroup("/api/v1/alerts").WithTags("alerts");
        group
            .MapGet(
                "/",
                async (
                    CrossingEngine engine,
                    AlertStore store,
                    Hosting.VestigeSettings settings,
                    CancellationToken cancellation,
                    bool standing = true,
                    int limit = 100
                ) =>
                    (standing ? engine.Alerts!.Standing : await store.LatestAsync(Math.Clamp(limit, 1, 1000), cancellation)).Select(alert =>
                        Of(alert, settings)
                    )
            )
            .Describe("listAlerts", "The alerts that are raised. With standing=false the latest, raised or over.")
            .Answers<IReadOnlyList<AlertDocument>>();
        group
            .MapPost(
                "/{number:long}/acknowledge",
                async (long number, AcknowledgeBody body, CrossingEngine engine, CancellationToken cancellation) =>
                {
                    await engine.Alerts!.AcknowledgeAsync(number, body.Note ?? "", body.By ?? By, cancellation);
                    return Results.Ok(new AcknowledgedDocument(Number: number));
                }
            )
            .Describe("acknowledgeAlert", "Acknowledges an alert, with a note.")
            .Answers<AcknowledgedDocument>()
            .Refuses(404, 409);
        group
            .MapGet("/settings", (CrossingEngine engine) => engine.Alerts!.Settings)
            .Describe("getAlertSettings", "Rules, channels and quiet hours.")
            .Answers<AlertSettings>();
        group
            .MapPut("/settings", PutAsync)
            .Describe(
                "changeAlertSettings",
                "Changes rules, channels and quiet hours. Secrets of channels are given beside them and never read back."
            )
            .Answers<AlertSettings>()
            .Refuses(409, 422);
        group
            .MapGet("/stand-ins", (StandInPost standIn) =>
                new StandInsDocument(Webhook: standIn.WebhookAddress, Mail: standIn.MailPort is { } port ? $"127.0.0.1:{port}" : null)
            )
            .Describe("getAlertStandIns", "Where the stand-ins for webhooks and mail listen.")
            .Answers<StandInsDocument>();
        group
            .MapPost(
                "/channels/{name}/test",
                async (string name, CrossingEngine engine, AlertStore store, CancellationToken cancellation) =>
                {
                    if (engine.Alerts!.Settings.Channels.All(channel => channel.Name != name))
                    {
                        return Problems.NotFound($"channel {name}");
                    }

                    await store.TestAsync(name, By, cancellation);
                    return Results.Ok(new ChannelDocument(Name: name));
                }
            )
            .Describe("testChannel", "Sends a test on a channel.")
            .Answers<ChannelDocument>()
            .Refuses(404);
    }

    private static async Task<IResult> PutAsync(
        AlertSettingsBody body,
        CrossingEngine engine,
        AlertStore store,
        CancellationToken cancellation
    )
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

    private static AlertDocument Of(Alert alert, Hosting.VestigeSettings settings)
    {
        var document = AlertText.Document(alert, $"{settings.Address}/crossings/{alert.Need.Crossing}");
        document["acknowledgedBy"] = alert.AcknowledgedBy;
        document["note"] = alert.Note;
        document["told"] = new JsonArray([.. alert.ToldTo.Select(channel => (JsonNode)channel)]);
        return document.Deserialize<AlertDocument>(JsonSerializerOptions.Web)!;
    }
}
