namespace Vestige.Web.Api.Describing;

/// <summary>Says of an operation what the OpenAPI document tells of it.</summary>
internal static class Operations
{
    public const string ProblemType = "application/problem+json";

    /// <summary>Names it, and says what it does: the first sentence is the summary.</summary>
    public static RouteHandlerBuilder Describe(this RouteHandlerBuilder operation, string name, string description)
    {
        var end = description.IndexOf(". ", StringComparison.Ordinal);
        return operation.WithName(name).WithSummary(end < 0 ? description : description[..(end + 1)]).WithDescription(description);
    }

    /// <summary>What it answers with when it did what was asked.</summary>
    public static RouteHandlerBuilder Answers<T>(
        this RouteHandlerBuilder operation,
        int status = StatusCodes.Status200OK,
        string type = "application/json",
        params string[] others
    ) => operation.Produces<T>(status, type, others);

    /// <summary>Why it may refuse, beside what every operation may refuse for.</summary>
    public static RouteHandlerBuilder Refuses(this RouteHandlerBuilder operation, params int[] statuses)
    {
        foreach (var status in statuses)
        {
            operation.Produces<Documents.ProblemDocument>(status, ProblemType);
        }

        return operation;
    }

    public static RouteHandlerBuilder NeedsIfMatch(this RouteHandlerBuilder operation) =>
        operation.WithMetadata(new IfMatchNeeded()).Refuses(412, 428);
}
