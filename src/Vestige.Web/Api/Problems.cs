using System.Text.Json;
using System.Text.RegularExpressions;
using Microsoft.AspNetCore.Diagnostics;
using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Crossings;
using Vestige.Engine.Faults;
using Vestige.Engine.Supervision;
using Vestige.Web.Definitions;
using Vestige.Web.Views;

namespace Vestige.Web.Api;

/// <summary>Problem details (RFC 9457) with a stable type, the field at fault and what to do.</summary>
public static partial class Problems
{
    private const string Types = "https://vestige.invalid/problems/";

    public static IResult NotFound(string what) => Of(404, "not-found", $"There is no {what}.", "Look at the list.");

    public static IResult Definition(IReadOnlyList<DefinitionProblem> problems) => Definition([.. problems.Select(problem => new PlacedProblem(problem, null))]);

    public static IResult Definition(IReadOnlyList<PlacedProblem> problems)
    {
        ArgumentNullException.ThrowIfNull(problems);
        var (first, place) = problems[0];
        var details = Details(422, "definition", $"{problems[0].Where}{first.Field}: {first.Found}. {first.Mend}");
        details.Extensions["field"] = first.Field;
        details.Extensions["mend"] = first.Mend;
        if (place is not null)
        {
            details.Extensions["line"] = place.Value.Line;
            details.Extensions["column"] = place.Value.Column;
        }

        details.Extensions["problems"] = problems.Select(each => new { each.Problem.Field, each.Problem.Found, each.Problem.Mend, each.Place?.Line, each.Place?.Column });
        return Results.Problem(details);
    }

    /// <summary>What a change of a started crossing needs, to be confirmed.</summary>
    public static IResult Confirm(DefinitionChange change)
    {
        ArgumentNullException.ThrowIfNull(change);
        var details = Details(409, "confirm", Sentences.Change(change));
        details.Extensions["mend"] = change.Ready ? change.Lines.Any(line => line.Loses is not null) ? "Something on the target is destroyed: send it again with confirm and the crossing's name." : "Send it again with confirm=true." : change.Lines.First(line => !line.Ok).Mend;
        details.Extensions["added"] = change.Added.Select(table => table.ToString());
        details.Extensions["removed"] = change.Removed.Select(table => table.ToString());
        details.Extensions["reloaded"] = change.Reloaded.Select(table => table.ToString());
        details.Extensions["restarts"] = change.Restarts;
        details.Extensions["lines"] = change.Lines.Select(ReadinessView.Of);
        return Results.Problem(details);
    }

    public static IResult NotReady(NotReadyException exception)
    {
        ArgumentNullException.ThrowIfNull(exception);
        var details = Details(409, "not-ready", exception.Message);
        details.Extensions["mend"] = exception.Lines.FirstOrDefault(line => !line.Ok)?.Mend;
        details.Extensions["lines"] = exception.Lines.Select(ReadinessView.Of);
        return Results.Problem(details);
    }

    /// <summary>What would be lost, to be confirmed by the crossing's name.</summary>
    public static IResult Loss(LossRefusedException exception)
    {
        ArgumentNullException.ThrowIfNull(exception);
        var details = Details(409, "confirm-loss", exception.Message);
        details.Extensions["mend"] = exception.Mend;
        details.Extensions["losses"] = exception.Losses;
        return Results.Problem(details);
    }

    public static IResult Of(int status, string type, string detail, string? mend, string? field = null)
    {
        var details = Details(status, type, detail);
        if (mend is not null)
        {
            details.Extensions["mend"] = mend;
        }

        if (field is not null)
        {
            details.Extensions["field"] = field;
        }

        return Results.Problem(details);
    }

    /// <summary>What an exception thrown by an endpoint means to the caller.</summary>
    public static IResult From(Exception exception) => exception switch
    {
        NotReadyException notReady => NotReady(notReady),
        LossRefusedException loss => Loss(loss),
        RequestRefusedException refused => Of(409, "refused", refused.Message, refused.Mend),
        PortException port => Of(502, port.Transient ? "unreachable" : "system-refused", port.Message, port.Mend),
        BadHttpRequestException { InnerException: JsonException json } => Of(400, "malformed", Told(json), "Correct the document.", json.Path),
        BadHttpRequestException bad => Of(bad.StatusCode, "malformed", bad.Message, "Correct the request."),
        _ => Of(500, "internal", "Vestige made an error. The log of the process says more.", null),
    };

    public static async Task HandleAsync(HttpContext context)
    {
        ArgumentNullException.ThrowIfNull(context);
        if (context.Features.Get<IExceptionHandlerFeature>()?.Error is { } error)
        {
            await From(error).ExecuteAsync(context);
        }
    }

    /// <summary>The reader's own words name types of this program, which say nothing to who wrote the document.</summary>
    private static string Told(JsonException json) => json.Message switch
    {
        var message when message.Contains(".NET member", StringComparison.Ordinal) => $"{json.Path} is not a field of this document.",
        var message when message.Contains("doesn't allow null", StringComparison.Ordinal) => $"{json.Path} must have a value.",
        var message when message.Contains("could not be converted", StringComparison.Ordinal) => $"{json.Path} has a value that the field does not take.",
        var message => TypeName().Replace(message, ""),
    };

    [GeneratedRegex(" for type '[^']*'", RegexOptions.None, matchTimeoutMilliseconds: 1000)]
    private static partial Regex TypeName();

    private static ProblemDetails Details(int status, string type, string detail) => new()
    {
        Status = status,
        Type = Types + type,
        Title = type.Replace('-', ' '),
        Detail = detail,
    };
}
