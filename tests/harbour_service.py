"""A booking service whose framework writes its description; nothing of it is made for Wolfbane."""

import asyncio
from typing import Annotated

from fastapi import Cookie, Depends, FastAPI, File, Form, HTTPException, Query, Response, UploadFile
from fastapi.responses import StreamingResponse
from fastapi.security import OAuth2PasswordBearer, OAuth2PasswordRequestForm
from pydantic import BaseModel, Field

PASSWORD = "spring-tide"
TOKEN = "let-me-moor-here"


class Wish(BaseModel):
    boat: str
    length: float = Field(gt=0)
    nights: int = 1


class Booking(Wish):
    number: int
    berth: str
    note: str | None = None


class Page(BaseModel):
    bookings: list[Booking]
    next: int | None = None


class Received(BaseModel):
    name: str | None
    kind: str | None
    size: int
    berth: str
    pages: int


def make_service() -> FastAPI:
    service = FastAPI(title="Saltmarsh Harbour", version="1")
    bearer = OAuth2PasswordBearer(tokenUrl="login")
    booked: list[Booking] = []

    def crew(token: Annotated[str, Depends(bearer)]) -> str:
        if token != TOKEN:
            raise HTTPException(401, "who are you?")
        return "ebb"

    @service.post("/login")
    def login(form: Annotated[OAuth2PasswordRequestForm, Depends()], answer: Response):
        if form.password != PASSWORD:
            raise HTTPException(400, "wrong password")
        answer.set_cookie("watch", form.username)
        return {"access_token": TOKEN, "token_type": "bearer"}

    @service.get("/me")
    def me(watch: Annotated[str | None, Cookie()] = None):
        return {"crew": watch}

    @service.post("/bookings", status_code=201)
    def book(wish: Wish, crew: Annotated[str, Depends(crew)]) -> Booking:
        if any(each.boat == wish.boat for each in booked):
            raise HTTPException(409, f"{wish.boat} has a berth")
        booked.append(Booking(**wish.model_dump(), number=len(booked) + 1, berth="A1"))
        return booked[-1]

    @service.get("/bookings")
    def bookings(page: int = 1, tag: Annotated[list[str] | None, Query()] = None) -> Page:
        following = page + 1 if page < len(booked) else None
        return Page(bookings=booked[page - 1 : page], next=following)

    @service.post("/charts")
    async def upload(
        chart: Annotated[UploadFile, File()],
        pages: Annotated[list[UploadFile], File()],
        berth: Annotated[str, Form()],
    ) -> Received:
        size = len(await chart.read())
        return Received(
            name=chart.filename, kind=chart.content_type, size=size, berth=berth, pages=len(pages)
        )

    @service.get("/tides", response_class=StreamingResponse)
    async def tides():
        async def heights():
            for hour in range(100_000):
                yield f"data: {hour % 13} m\n\n"
                await asyncio.sleep(0.005)

        return StreamingResponse(heights(), media_type="text/event-stream")

    return service
