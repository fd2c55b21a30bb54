using System.Text.Json;
using System.Text.RegularExpressions;
using Microsoft.AspNetCore.Diagnostics;
using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Crossings;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Web.Definitions;
using Vestige.Web.Views;

namespace Vestige.Web.Api;

/// <summary>Problem details (RFC 9457) with a stable type, the field at fault and what to do.</summary>
public static partial class Problems
{
    private const int LongestExplained = 300;
    private const string Types = "https://vestige.invalid/problems/";

    public static IResult NotFound(string what) => Of(404, "not-found", $"There is no {what}.", "Look at the list.");

    public static IResult Definition(IReadOnlyList<DefinitionProblem> problems) =>
        Definition([.. problems.Select(problem => new LocatedProblem(problem, null))]);

    public static IResult Definition(IReadOnlyList<LocatedProblem> problems)
    {
        ArgumentNullException.ThrowIfNull(problems);
        var (first, place) = problems[0];
        var details = Details(422, "definition", $"{problems[0].Where}{Clipped(first.Field)}: {Clipped(first.Found)}. {first.Remedy}");
        details.Extensions["field"] = Clipped(first.Field);
        details.Extensions["remedy"] = first.Remedy;
        if (place is not null)
        {
            details.Extensions["line"] = place.Value.Line;
            details.Extensions["column"] = place.Value.Column;
        }

        details.Extensions["problems"] = problems
            .Take(100)
            .Select(each => new
            {
                Field = Clipped(each.Problem.Field),
                Found = Clipped(each.Problem.Found),
                each.Problem.Remedy,
                each.Place?.Line,
                each.Place?.Column,
            });
        return Results.Problem(details);
    }

    /// <summary>What a change of a started crossing needs, to be confirmed.</summary>
    public static IResult Confirm(DefinitionChange change)
    {
        ArgumentNullException.ThrowIfNull(change);
        var details = Details(409, "confirm", Sentences.Change(change));
        details.Extensions["remedy"] = change.Ready
            ? change.Checks.Any(line => line.Loses is not null)
                ? "Something on the target is destroyed: send it again with confirm and the crossing's name."
                : "Send it again with confirm=true."
            : change.Checks.First(line => !line.Ok).Remedy;
        details.Extensions["added"] = change.Added.Select(table => table.ToString());
        details.Extensions["removed"] = change.Removed.Select(table => table.ToString());
        details.Extensions["reloaded"] = change.Reloaded.Select(table => table.ToString());
        details.Extensions["restarts"] = change.Restarts;
        details.Extensions["lines"] = change.Checks.Select(ReadinessView.Of);
        return Results.Problem(details);
    }

    public static IResult NotReady(NotReadyException exception)
    {
        ArgumentNullException.ThrowIfNull(exception);
        var details = Details(409, "not-ready", exception.Message);
        details.Extensions["remedy"] = exception.Checks.FirstOrDefault(line => !line.Ok)?.Remedy;
        details.Extensions["lines"] = exception.Checks.Select(ReadinessView.Of);
        return Results.Problem(details);
    }

    /// <summary>What would be lost, to be confirmed by the crossing's name.</summary>
    public static IResult Loss(LossRefusedException exception)
    {
        ArgumentNullException.ThrowIfNull(exception);
        var details = Details(409, "confirm-loss", exception.Message);
        details.Extensions["remedy"] = exception.Remedy;
        details.Extensions["losses"] = exception.Losses;
        return Results.Problem(details);
    }

    public static IResult Of(int status, string type, string detail, string? remedy, string? field = null)
    {
        var details = Details(status, type, detail);
        if (remedy is not null)
        {
            details.Extensions["remedy"] = remedy;
        }

        if (field is not null)
        {
            details.Extensions["field"] = Clipped(field);
        }

        return Results.Problem(details);
    }

    /// <summary>What an exception thrown by an endpoint means to the caller.</summary>
    public static IResult From(Exception exception) =>
        exception switch
        {
            NotReadyException notReady => NotReady(notReady),
            LossRefusedException loss => Loss(loss),
            DefinitionChangedException changed => Of(412, "changed-meanwhile", changed.Message, changed.Remedy, "If-Match"),
            RequestRefusedException refused => Of(409, "refused", refused.Message, refused.Remedy),
            StoreException store => Of(store.IsFull ? 507 : 503, "store", store.Message, store.Remedy),
            PortException port => Of(424, port.Transient ? "unreachable" : "system-refused", port.Message, port.Remedy),
            BadHttpRequestException { InnerException: EmptyEntryException empty } => Of(
                422,
                "definition",
                $"{empty.Field}: the entry is null. Leave it out.",
                "Leave the entry out.",
                empty.Field
            ),
            BadHttpRequestException { InnerException: JsonException json } => Of(
                400,
                "malformed",
                Explained(json),
                "Correct the document.",
                json.Path
            ),
            BadHttpRequestException bad => Malformed(bad),
            FormatException format => Of(422, "malformed", format.Message, "Correct the request."),
            _ => Of(500, "internal", "Vestige made an error. The log of the process says more.", null),
        };

    public static async Task HandleAsync(HttpContext context)
    {
        ArgumentNullException.ThrowIfNull(context);
        if (context.Features.Get<IExceptionHandlerFeature>()?.Error is { } error)
        {
            if (IsReported(error))
            {
                context
                    .RequestServices.GetRequiredService<ILoggerFactory>()
                    .CreateLogger("Vestige.Web.Api")
                    .LogInformation(
                        "Refused {Method} {Path}: {Reason}",
                        context.Request.Method,
                        Clipped(context.Request.Path.ToString()),
                        Clipped(error.Message)
                    );
            }

            await From(error).ExecuteAsync(context);
        }
    }

    /// <summary>Whether an exception is an answer to the caller: a line in the log is enough for it.</summary>
    public static bool IsReported(Exception exception) =>
        exception
            is RequestRefusedException
                or PortException
                or BadHttpRequestException
                or FormatException
                or NotReadyException
                or LossRefusedException;

    /// <summary>What a status without a body means, in our words.</summary>
    public static IResult OfStatus(HttpContext context)
    {
        ArgumentNullException.ThrowIfNull(context);
        return context.Response.StatusCode switch
        {
            404 => Of(404, "not-found", "There is nothing at this address.", "See /openapi/v1.json for what there is."),
            405 => Of(405, "method", $"{context.Request.Method} is not for this address.", $"Use {context.Response.Headers.Allow}."),
            413 => Of(413, "too-large", "The request is too large.", $"Send at most {Hosting.RequestLimits.LongestBody} bytes."),
            415 => Of(415, "malformed", "The body's content type is not taken here.", "Send application/json."),
            var status => Of(status, "refused", "The request was refused.", "Correct the request."),
        };
    }

    /// <summary>The framework's words name its types and parameters; ours name what was sent.</summary>
    private static IResult Malformed(BadHttpRequestException bad)
    {
        if (MissingParameter().Match(bad.Message) is { Success: true } missing)
        {
            return Of(
                400,
                "malformed",
                $"{missing.Groups["name"].Value} is missing.",
                $"Send {missing.Groups["name"].Value}.",
                missing.Groups["name"].Value
            );
        }

        if (UnreadParameter().Match(bad.Message) is { Success: true } unread)
        {
            return Of(
                400,
                "malformed",
                $"{unread.Groups["name"].Value} does not take '{Clipped(unread.Groups["value"].Value)}'.",
                "Correct the value.",
                unread.Groups["name"].Value
            );
        }

        return bad.StatusCode switch
        {
            400 => Of(
                400,
                "malformed",
                bad.Message.StartsWith("The ", StringComparison.Ordinal) || bad.Message.StartsWith("A ", StringComparison.Ordinal)
                    ? bad.Message
                    : "The request cannot be read.",
                "Correct the request."
            ),
            413 => Of(
                413,
                "too-large",
                bad.Message.StartsWith("A definition", StringComparison.Ordinal) ? bad.Message : "The request is too large.",
                "Send less."
            ),
            415 => Of(
                415,
                "malformed",
                bad.Message.StartsWith("The definition", StringComparison.Ordinal)
                    ? bad.Message
                    : "The body's content type is not taken here.",
                "Send application/json."
            ),
            var status => Of(status, "malformed", "The request cannot be read.", "Correct the request."),
        };
    }

    /// <summary>What was sent is repeated as far as one needs it to be found.</summary>
    private static string Clipped(string text) =>
        text.Length <= LongestExplained ? text : $"{text[..LongestExplained]}... ({text.Length} characters)";

    [GeneratedRegex("^Required parameter \"\\S+ (?<name>\\w+)\" was not provided", RegexOptions.None, matchTimeoutMilliseconds: 1000)]
    private static partial Regex MissingParameter();

    [GeneratedRegex(
        "^Failed to bind parameter \"\\S+ (?<name>\\w+)\" from \"(?<value>.*)\"\\.$",
        RegexOptions.Singleline,
        matchTimeoutMilliseconds: 1000
    )]
    private static partial Regex UnreadParameter();

    /// <summary>The reader's own words name types of this program, which say nothing to who wrote the document.</summary>
    private static string Explained(JsonException json) =>
        json.Message switch
        {
            var message when message.Contains(".NET member", StringComparison.Ordinal) => $"{json.Path} is not a field of this document.",
            var message when message.Contains("doesn't allow null", StringComparison.Ordinal) => $"{json.Path} must have a value.",
            var message when message.Contains("could not be converted", StringComparison.Ordinal) =>
                $"{json.Path} has a value that the field does not take.",
            var message => TypeName().Replace(message, ""),
        };

    [GeneratedRegex(" for type '[^']*'", RegexOptions.None, matchTimeoutMilliseconds: 1000)]
    private static partial Regex TypeName();

    private static ProblemDetails Details(int status, string type, string detail) =>
        new()
        {
            Status = status,
            Type = Types + type,
            Title = type.Replace('-', ' '),
            Detail = detail.Length <= 4 * LongestExplained ? detail : Clipped(detail),
        };
}
