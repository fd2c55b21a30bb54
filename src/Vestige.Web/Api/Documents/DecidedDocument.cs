using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>A change that a person dropped or edited.</summary>
public sealed record DecidedDocument(
    [property: Choices("dropped", "edited")] string What,
    string By,
    [property: Time] string At,
    string Words,
    QuarantinedDocument Change
);
